//! `calls.csv`: the berth calls of eighteen months.

use jiff::ToSpan;
use jiff::civil::date;

use super::random::Random;

const CALLS: u32 = 12_000;

/// Quays with their share of the calls; a few calls have none noted down.
const QUAYS: [(&str, u64); 8] = [
    ("North Quay", 270),
    ("Grain Pier", 190),
    ("Ro/Ro Terminal", 175),
    ("Ångkajen", 140),
    ("Coal Dock", 95),
    ("Old Harbour", 80),
    ("East Mole", 45),
    ("", 5),
];

const AGENTS: [&str; 9] = [
    "Brask & Holm",
    "Tidewater Agency",
    "Varnholm Shipping, Ltd",
    "Öberg Linjeagentur",
    "Skarv Marine",
    "Kestrel Forwarding",
    "Lindvik & Daughters",
    "Polder Chartering",
    "\"Neptun\" Stevedores",
];

const VESSEL_FIRST: [&str; 14] = [
    "Amber",
    "Borea",
    "Cormorant",
    "Dovrefjord",
    "Eider",
    "Fulmar",
    "Grebe",
    "Halcyon",
    "Isgrim",
    "Juniper",
    "Kittiwake",
    "Lodestar",
    "Merganser",
    "Nordlys",
];

const VESSEL_SECOND: [&str; 9] = [
    "", " II", " Star", " Trader", " Express", " Maid", " Sund", " Carrier", " Queen",
];

/// Codes that ISO 3166 leaves to their users: no country has them.
const FLAGS: [&str; 6] = ["XA", "XB", "XD", "XG", "XN", "XV"];

/// Cargoes with their share, and the tonnes that a call of them moves at the most.
const CARGOES: [((&str, u64), u64); 8] = [
    (("containers", 42_000), 250),
    (("grain", 58_000), 170),
    (("vehicles", 16_000), 150),
    (("timber", 24_000), 120),
    (("coal", 64_000), 90),
    (("oil products", 71_000), 80),
    (("fish", 1_800), 75),
    (("passengers", 300), 65),
];

const REMARKS: [&str; 10] = [
    "pilot late, 40 min",
    "berth shifted, then back",
    "shore power used",
    "master asked for \"quiet berth\"",
    "damage to fender 12\"\nreported to harbour office",
    "waited for tide",
    "gangway checked; no remarks",
    "waste: 3 m³, oily water: 1 m³",
    "Lots beställd två gånger",
    "dues disputed:\n- tonnage\n- rebate, see letter",
];

/// The file, with its header.
pub(super) fn csv() -> Vec<u8> {
    let mut random = Random::new(0x5661_726e_686f_6c6d);
    let mut numbers: Vec<u32> = (1..=CALLS).collect();
    random.shuffle(&mut numbers);
    let mut text = String::from(
        "call_id,quay,berth,agent,vessel,flag,cargo,arrived,departed,tonnes,draught,dues,pilot,\
         invoice,remarks\n",
    );
    for number in numbers {
        call(number, &mut random, &mut text);
    }
    text.into_bytes()
}

fn call(number: u32, random: &mut Random, text: &mut String) {
    let quay = *random.weighted(&QUAYS);
    let (cargo, most_tonnes) = *random.weighted(&CARGOES);
    let vessel = format!(
        "{}{}",
        random.pick(&VESSEL_FIRST),
        random.pick(&VESSEL_SECOND)
    );
    let arrived =
        date(2025, 1, 1).at(0, 0, 0, 0) + (random.below(546 * 24 * 12) as i64 * 5).minutes();
    let departed = arrived + (180 + random.below(3600) as i64).minutes();
    let tonnes = most_tonnes / 20 + random.below(most_tonnes);
    let dues = 18_000 + tonnes * 31 + random.below(100);
    let berth = format!("{}{}", random.pick(&['A', 'B', 'C']), 1 + random.below(9));
    let remark = if random.chance(220) {
        *random.pick(&REMARKS)
    } else {
        ""
    };
    let fields = [
        format!("{:07}", 410_000 + number),
        quay.to_owned(),
        if quay.is_empty() {
            String::new()
        } else {
            berth
        },
        (*random.pick(&AGENTS)).to_owned(),
        vessel,
        (*random.pick(&FLAGS)).to_owned(),
        cargo.to_owned(),
        arrived.strftime("%Y-%m-%d %H:%M").to_string(),
        departed.strftime("%Y-%m-%d %H:%M").to_string(),
        tonnes.to_string(),
        format!("{}.{}", 3 + random.below(12), random.below(10)),
        format!("{}.{:02}", dues / 100, dues % 100),
        if random.chance(720) { "TRUE" } else { "FALSE" }.to_owned(),
        if random.chance(30) {
            String::new()
        } else {
            format!("{:05}", random.below(99_999))
        },
        remark.to_owned(),
    ];
    for (place, field) in fields.iter().enumerate() {
        if place > 0 {
            text.push(',');
        }
        if field.contains([',', '"', '\n']) {
            text.extend(["\"", &field.replace('"', "\"\""), "\""]);
        } else {
            text.push_str(field);
        }
    }
    text.push('\n');
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_calls_are_the_same_each_time() {
        let calls = csv();
        assert_eq!(calls, csv());
        let text = String::from_utf8(calls).expect("UTF-8");
        assert_eq!(
            text.lines().next().map(|header| header.split(',').count()),
            Some(15)
        );
        insta::assert_snapshot!(text.lines().take(12).collect::<Vec<_>>().join("\n"));
    }
}
