//! The small tables: `owners.csv`, who gets the calls of a quay, and `charts.csv`, the catalogue
//! of sea charts.

/// Quay, the office that it belongs to, and its head.
const OWNERS: [(&str, &str, &str); 7] = [
    ("North Quay", "North Office", "Ada Lund"),
    ("Ångkajen", "North Office", "Ada Lund"),
    ("Grain Pier", "Bulk Office", "Per Skov"),
    ("Coal Dock", "Bulk Office", "Per Skov"),
    ("Ro/Ro Terminal", "Ferry Office", "Mia Holt"),
    ("Old Harbour", "Harbour Master", "Ines Dahl"),
    ("East Mole", "Harbour Master", "Ines Dahl"),
];

const WATERS: [&str; 8] = [
    "Varnholm Roads",
    "Inner Harbour",
    "Grain Pier Approach",
    "Skarv Sound",
    "Eider Bank",
    "Old Mole to Fulmar Rock",
    "Nordlys Fairway",
    "Kittiwake Narrows",
];

/// Charts in the catalogue. The number of the eighteenth is that of the fourth: someone has
/// slipped.
const CHARTS: u32 = 40;

/// `owners.csv`, with its header.
pub(super) fn owners() -> Vec<u8> {
    let mut text = String::from("quay,office,head\n");
    for (quay, office, head) in OWNERS {
        text.push_str(&format!("{quay},{office},{head}\n"));
    }
    text.into_bytes()
}

/// `charts.csv`, with its header.
pub(super) fn charts() -> Vec<u8> {
    let mut text = String::from("number,title,scale,edition\n");
    for place in 1..=CHARTS {
        let number = if place == 18 { 4 } else { place };
        let water = WATERS[place as usize % WATERS.len()];
        let part = (b'A' + (place % 5) as u8) as char;
        let scale = [7_500, 10_000, 25_000, 50_000][place as usize % 4];
        let edition = 2019 + place % 7;
        text.push_str(&format!(
            "VH{number:03},\"{water}, sheet {part}\",1:{scale},{edition}\n"
        ));
    }
    text.into_bytes()
}
