#!/usr/bin/env bash
# Draws docs/screenshots/*.png: the built program in a terminal, on the demo's data.
#
# Needs Debian's packages xterm, xvfb, imagemagick, libreoffice-calc, chromium, poppler-utils and fonts-dejavu-core, openpyxl and Pillow from
# PyPI for PYTHON (python3 if not set), and a release build.
set -euo pipefail
cd "$(dirname "$0")/.."
top=$PWD
shots=$top/docs/screenshots
work=$(mktemp -d)
trap 'rm -rf "$work"; kill "${server:-}" 2>/dev/null || true' EXIT
mkdir -p "$shots"
export PATH="$top/target/release:$PATH"

Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
export DISPLAY=:97
sleep 1

# shot NAME COMMAND...: types the command in a terminal of the sample folder and takes a picture.
shot() {
    local name=$1 command=$2
    printf '%s\n' "$command" > "$work/command"
    cat > "$work/typed.sh" <<TYPED
cd "$work/$3"
clear
printf '\033[1m\$ %s\033[0m\n' "\$(cat "$work/command")"
. "$work/command"
touch "$work/done"
sleep 60
TYPED
    rm -f "$work/done"
    xterm +sb -geometry 141x42+0+0 -fa "DejaVu Sans Mono" -fs 11 -bg "#14181f" -fg "#d8dee9" \
        -xrm "XTerm*boldMode: false" -xrm "XTerm*boldColors: false" \
        -xrm "XTerm*color2: #8fd18f" -xrm "XTerm*color3: #e5c07b" \
        -xrm "XTerm*color6: #7fc8d8" -xrm "XTerm*color1: #ef7f7f" \
        -xrm "XTerm*locale: UTF-8" -u8 -e bash "$work/typed.sh" &
    local terminal=$!
    for _ in $(seq 100); do
        [ -e "$work/done" ] && break
        sleep 0.1
    done
    sleep 0.7
    import -window root -crop 1280x800+0+0 +repage "$work/shot.png"
    # Cut to what it shows, with a margin.
    convert "$work/shot.png" -fuzz 12% -trim +repage -bordercolor "#14181f" -border 14 "$shots/$name.png"
    kill "$terminal" 2>/dev/null || true
    wait "$terminal" 2>/dev/null || true
}

# page NAME WORKBOOK: the first page of a workbook, as a spreadsheet program computes and prints it.
page() {
    local name=$1 workbook=$2
    cp "$workbook" "$work/page.xlsx"
    rm -f "$work/page.pdf"
    HOME=$work soffice --headless --convert-to pdf --outdir "$work" "$work/page.xlsx" >/dev/null 2>&1
    pdftoppm -f 1 -l 1 -r 160 -png -singlefile "$work/page.pdf" "$work/page"
    convert "$work/page.png" -trim -bordercolor white -border 40 -resize 1280x800 "$shots/$name.png"
}

export LC_ALL=C.UTF-8
numerant demo "$work/varnholm" >/dev/null
offices=$work/varnholm/offices
rm -rf "$work/varnholm/calls" "$work/varnholm/charts"
shot inspect "numerant inspect calls.csv --show 1" varnholm
shot files "numerant inspect manifests notices port.xlsx calls.csv rechnungen.csv" varnholm
(cd "$work/varnholm" && numerant split calls.csv --by quay --total dues --blank 'no quay' --ledger quays.json --out quays --quiet)
shot deliver "numerant deliver quays.json --routes routes.csv --from port@varnholm.example --subject '{quay}: {.rows} calls' --plan" varnholm
shot plan "numerant split calls.csv --by quay --blank unknown --total dues,tonnes --plan" varnholm
shot split "numerant split calls.csv --name '{quay}/{arrived:month}.csv' --drop remarks" varnholm
rm -rf "$work/varnholm/calls" "$work/varnholm/cases"
shot steps "numerant inspect calls.csv --set 'net=ROUND(dues * 0.92, 2)' --where \"cargo = 'fish'\" --lookup owners.csv:quay --unmatched blank --keep call_id,quay,office,dues,net --sort office,-dues --show 8" varnholm
shot document "numerant inspect manifests/grain.json --show 0" varnholm
rm -rf "$work/varnholm/customs"
shot shape "cat customs.xml; numerant convert manifests/*.json --records '$' --lists rows=lines --set 'total=\"lines.price.net\" + \"lines.price.tax\"' --to xml --shape customs.xml --out customs; tail -8 customs/grain.xml" varnholm
(cd "$work/varnholm" && numerant split port.xlsx --name '{quay}.xlsx' --sheet '{arrived:quarter}' --where "quay > 'O'" --out quarters --quiet)
(cd "$work/varnholm" && numerant split calls.csv --name '{quay}.pdf' --title 'Calls at {quay}' --where 'tonnes > 1000' \
    --group-by cargo --total dues,tonnes --out pages --page run.html --quiet &&
    numerant inspect calls.csv --show 0 --page look.html >/dev/null)
pdftoppm -f 1 -l 1 -r 110 -png -singlefile "$work/varnholm/pages/East Mole.pdf" "$shots/pdf"
for name in run look; do
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 \
        --screenshot="$shots/$name-page.png" "file://$work/varnholm/$name.html" >/dev/null 2>&1
done
"${PYTHON:-python3}" tools/sheet_picture.py "$work/varnholm/quarters/Old Harbour.xlsx" "$shots/sheet.png"
shot fill "numerant fill report.xlsx gauges --recursive --from-name '{waters}/{station}_{kind}.txt' --name '{station} report.xlsx' --put 'Level!A6={.records:*_level.txt}' --put 'Salinity!A6={.records:*_salinity.txt}' --put 'Station={station}' --put 'Summary!B4={waters} waters' --put 'Summary!B5={.rows}' --style-down --out filled" varnholm
page template "$work/varnholm/report.xlsx"
(cd "$work/varnholm" && numerant fill report.xlsx gauges --recursive --from-name '{waters}/{station}_{kind}.txt' \
    --name '{station} report.pdf' --put 'Level!A6={.records:*_level.txt}' --put 'Salinity!A6={.records:*_salinity.txt}' \
    --put 'Station={station}' --put 'Summary!B4={waters} waters' --put 'Summary!B5={.rows}' --style-down --out drawn --quiet)
pdftoppm -f 1 -l 1 -r 160 -png -singlefile "$work/varnholm/drawn/V07 report.pdf" "$work/report"
convert "$work/report.png" -trim -bordercolor white -border 40 -resize 1280x800 "$shots/report.png"
# A changed value, a lost record and a doubled one.
sed -i '3s/[0-9]*\.[0-9][0-9],\(TRUE\|FALSE\)/1.00,\1/; 9d' "$offices/North Office/North Quay.csv"
sed -i '5p' "$offices/Bulk Office/Coal Dock.csv"
shot verify "numerant verify --whole calls.csv --parts offices --ignore invoice" varnholm
shot refused "numerant split calls.csv --by agent,vessel,cargo; numerant split calls.csv --by quai; numerant split calls.csv --name {remarks:month}.csv" varnholm
# A folder in which one file is broken.
printf 'time;level;quality\n2026-03-01 00:00;1.5\n' > "$work/varnholm/gauges/inner/V25_level.txt"
rm -rf "$work/varnholm/gauge workbooks" "$work/varnholm/monthly"
shot batch "numerant convert gauges --recursive --pick '*_level.txt' --to xlsx --out 'gauge workbooks'" varnholm
shot job "numerant run monthly.toml month=2026-05" varnholm
