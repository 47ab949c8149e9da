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

/// `routes.csv`: who gets the calls of a quay, by mail.
pub(super) fn routes() -> Vec<u8> {
    b"quay,to,cc,name\n\
      North Quay,north@varnholm.example,,Ada\n\
      Grain Pier,bulk@varnholm.example,harbourmaster@varnholm.example,Bo\n\
      Coal Dock,bulk@varnholm.example,harbourmaster@varnholm.example,Bo\n\
      Ro/Ro Terminal,\"ferries@varnholm.example, tickets@varnholm.example\",,Ci\n\
      \xc3\x85ngkajen,south@varnholm.example,,D\xc3\xa9\n\
      Old Harbour,south@varnholm.example,,D\xc3\xa9\n\
      East Mole,east@varnholm.example,,Ed\n\
      ,office@varnholm.example,,Gi\n"
        .to_vec()
}

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

/// Invoices of dues in the exports.
const INVOICES: u32 = 60;

/// Number, day of the year 2026, amount in hundredths and share of a rebate in tenths of a percent of the
/// invoices.
fn invoices() -> impl Iterator<Item = (u32, u32, i64, u32)> {
    (1..=INVOICES).map(|number| {
        let day = number * 47 % 360;
        let amount = i64::from(number * 739_391 % 4_000_000) + 1;
        // Every ninth is a credit.
        let amount = if number.is_multiple_of(9) {
            -amount
        } else {
            amount
        };
        (41_200 + number, day, amount, number * 13 % 100)
    })
}

/// An amount in hundredths with groups.
fn grouped(hundredths: i64, group: char, mark: char) -> String {
    let (whole, fraction) = (hundredths.abs() / 100, hundredths.abs() % 100);
    let digits = whole.to_string();
    let mut text = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            text.push(group);
        }
        text.push(digit);
    }
    format!("{text}{mark}{fraction:02}")
}

/// `invoices-us.csv`: what the system of an agent in the US writes.
pub(super) fn invoices_us() -> Vec<u8> {
    let mut text = String::from("invoice,due,amount,rebate,paid\n");
    for (number, day, amount, rebate) in invoices() {
        let (month, of_month) = (day / 30 + 1, day % 28 + 1);
        let shown = grouped(amount, ',', '.');
        let shown = if amount < 0 {
            format!("(${shown})")
        } else {
            format!("${shown}")
        };
        let (hour, minute) = (number % 12 + 1, number * 7 % 60);
        let half = if number.is_multiple_of(2) { "AM" } else { "PM" };
        text.push_str(&format!(
            "{number},{month}/{of_month}/2026,\"{shown}\",{}.{}%,{month}/{of_month}/2026 {hour}:{minute:02} {half}\n",
            rebate / 10,
            rebate % 10
        ));
    }
    text.into_bytes()
}

/// `rechnungen.csv`: the same invoices as a German system writes them.
pub(super) fn invoices_de() -> Vec<u8> {
    let mut text = String::from("rechnung;fällig;betrag;nachlass\n");
    for (number, day, amount, rebate) in invoices() {
        let sign = if amount < 0 { "-" } else { "" };
        text.push_str(&format!(
            "{number};{:02}.{:02}.2026;{sign}{} €;{},{} %\n",
            day % 28 + 1,
            day / 30 + 1,
            grouped(amount, '.', ','),
            rebate / 10,
            rebate % 10
        ));
    }
    text.into_bytes()
}
