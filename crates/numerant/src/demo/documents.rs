//! The documents: `manifests`, a JSON document for each kind of cargo, `notices`, an XML document for
//! each week, and `customs.xml`, the form that customs wants.

use super::random::Random;

/// A kind of cargo, its vessel with her flag, and what she carries.
const MANIFESTS: [(&str, &str, &str, &[&str]); 4] = [
    (
        "containers",
        "Halcyon Express",
        "XN",
        &["furniture", "spare parts", "paper", "toys"],
    ),
    (
        "grain",
        "Borea Carrier",
        "XD",
        &["wheat", "barley", "rape seed"],
    ),
    (
        "timber",
        "Dovrefjord",
        "XV",
        &["spruce boards", "plywood", "pit props"],
    ),
    (
        "vehicles",
        "Lodestar Queen",
        "XA",
        &["cars", "vans", "trailers", "tractors"],
    ),
];

/// What a notice is about, and what it says.
const NOTICES: [(&str, &str); 5] = [
    (
        "dredging",
        "Dredger at work; keep < 5 knots & a wide berth.",
    ),
    ("buoy", "The light buoy is off its place."),
    ("works", "Divers at the quay wall."),
    ("wreck", "A sunken barge, marked by a green buoy."),
    ("exercise", "The harbour fire brigade holds an exercise."),
];

/// What customs wants: a sample of its document, with places in braces and marks.
const CUSTOMS: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<c:declaration xmlns:c="urn:varnholm:customs" manifest="{manifest}" items="{.rows}">
  <c:carrier flag="{vessel.flag}">{vessel.name}</c:carrier>
  <?each?>
  <c:item number="{lines.number}">
    <c:goods>{lines.goods}</c:goods>
    <c:packages>{lines.packages}</c:packages>
    <?optional?>
    <c:marks>{lines.marks}</c:marks>
    <c:value currency="{currency}">{total}</c:value>
  </c:item>
</c:declaration>
"#;

/// All documents, by their paths in the folder.
pub(super) fn all() -> Vec<(String, Vec<u8>)> {
    let mut random = Random::new(0x6d61_6e69);
    let mut files = vec![("customs.xml".to_owned(), CUSTOMS.as_bytes().to_vec())];
    for (place, manifest) in MANIFESTS.iter().enumerate() {
        let text = self::manifest(place, manifest, &mut random);
        files.push((format!("manifests/{}.json", manifest.0), text.into_bytes()));
    }
    for week in 10..13 {
        let text = notices(week, &mut random);
        files.push((format!("notices/2026-W{week}.xml"), text.into_bytes()));
    }
    files
}

fn manifest(
    place: usize,
    (cargo, vessel, flag, goods): &(&str, &str, &str, &[&str]),
    random: &mut Random,
) -> String {
    let mut lines = Vec::new();
    for number in 1..=5 + 2 * place as u64 {
        let goods = goods[random.below(goods.len() as u64) as usize];
        let net = random.below(900_000) + 10_000;
        let tax = net / 4;
        // Some things have no marks.
        let marks = match random.below(3) {
            0 => String::new(),
            _ => format!(", \"marks\": \"VH {:04}\"", random.below(10_000)),
        };
        lines.push(format!(
            "    {{\"number\": {number}, \"goods\": \"{goods}\"{marks}, \"packages\": {}, \
             \"price\": {{\"net\": {}.{:02}, \"tax\": {}.{:02}}}}}",
            random.below(400) + 1,
            net / 100,
            net % 100,
            tax / 100,
            tax % 100
        ));
    }
    format!(
        "{{\n  \"manifest\": \"M-2026-{:03}\",\n  \"cargo\": \"{cargo}\",\n  \
         \"vessel\": {{\"name\": \"{vessel}\", \"flag\": \"{flag}\"}},\n  \"currency\": \"VHC\",\n  \
         \"lines\": [\n{}\n  ]\n}}\n",
        40 + place,
        lines.join(",\n")
    )
}

fn notices(week: u64, random: &mut Random) -> String {
    let mut text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<notices xmlns=\"urn:varnholm:notices\" \
         week=\"{week}\">\n  <authority>Port of Varnholm</authority>\n"
    );
    for number in 1..=3 + random.below(3) {
        let (kind, says) = NOTICES[random.below(NOTICES.len() as u64) as usize];
        let day = week * 7 - 69 + random.below(5);
        let until = match random.below(3) {
            0 => String::new(),
            days => format!("    <until>2026-03-{:02}</until>\n", day + days),
        };
        let charts: String = (0..1 + random.below(3))
            .map(|_| format!("    <chart>VH{:03}</chart>\n", random.below(40) + 1))
            .collect();
        text.push_str(&format!(
            "  <notice number=\"{week}/{number}\" kind=\"{kind}\">\n{charts}    \
             <from>2026-03-{day:02}</from>\n{until}    <says>{}</says>\n  </notice>\n",
            says.replace('&', "&amp;").replace('<', "&lt;")
        ));
    }
    text.push_str("</notices>\n");
    text
}
