//! `gauges`: the readings of the tide gauges, two files for each station, as two old recorders write
//! them; and `monthly.toml`, the job that the office runs each month.

use super::random::Random;

/// Stations, each with a gauge for the level and one for salinity.
const STATIONS: u32 = 24;

/// Readings in a file: two days, hour by hour.
const READINGS: u32 = 48;

/// All files, each with its path below the sample folder. The name of a file says the station and
/// what was measured.
pub(super) fn all() -> Vec<(String, Vec<u8>)> {
    let mut random = Random::new(1_893);
    let mut files = Vec::new();
    for station in 1..=STATIONS {
        let waters = ["inner", "outer"][station as usize % 2];
        let base = f64::from(station) * 0.11;
        let mut level = String::from("time;level;quality\n");
        let mut salinity = String::from("time|psu|quality\n");
        for hour in 0..READINGS {
            let time = format!("2026-03-{:02} {:02}:00", 1 + hour / 24, hour % 24);
            let tide = (f64::from(hour) / 12.42 * std::f64::consts::TAU + base).sin();
            let quality = if random.chance(20) {
                "doubtful"
            } else {
                "good"
            };
            level.push_str(&format!("{time};{:.2};{quality}\n", 1.5 + 0.9 * tide));
            let salt = 28.0 + 3.0 * tide + random.below(40) as f64 / 100.0;
            salinity.push_str(&format!("{time}|{salt:.1}|{quality}\n"));
        }
        for (what, text) in [("level", level), ("salinity", salinity)] {
            let name = format!("gauges/{waters}/V{station:02}_{what}.txt");
            files.push((name, text.into_bytes()));
        }
    }
    files
}

/// The job of each month: the large calls of a month to their quays, one workbook of all, and the
/// proof that both hold the same.
pub(super) const MONTHLY: &str = r#"# What the office sends out each month: 'numerant run monthly.toml month=2026-04'.

[params]
month = { about = "the month, such as 2026-03", default = "2026-03" }
least = { about = "dues that a call has at least", default = 100 }

[[job]]
command = "split"
sources = ["calls.csv"]
steps = [
  { where = "arrived LIKE '${month}%' AND dues >= ${least}" },
  { drop = ["invoice"] },
]
by = ["quay"]
blank = "no quay"
total = ["dues"]
out = "monthly/${month}"
ledger = "monthly/${month}.json"

[[job]]
command = "combine"
sources = ["monthly/${month}"]
name = "monthly/all of ${month}.xlsx"

[[job]]
command = "verify"
whole = ["monthly/all of ${month}.xlsx"]
parts = ["monthly/${month}"]
"#;
