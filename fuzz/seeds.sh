#!/usr/bin/env bash
# Puts the files of the tests into the corpora of the targets that read such files.
set -euo pipefail
cd "$(dirname "$0")"

seed() {
    target=$1
    shift
    mkdir -p "corpus/$target"
    for extension in "$@"; do
        find ../crates -path '*/tests/*' -name "*.$extension" -size -200k -print0 |
            while IFS= read -r -d '' file; do
                cp "$file" "corpus/$target/$(md5sum < "$file" | cut -c1-16)"
            done
    done
}

seed delimited csv tsv txt
seed fixed_width fwf prn
seed json json
seed json_lines jsonl
seed xml xml
seed marcxml marcxml xml
seed iso2709 mrc
seed x12 x12 835
seed edifact edi edifact
seed xls xls
seed xlsx xlsx xlsm
seed xlsb xlsb
seed ods ods
seed zip zip
seed job_file toml
