//! `remittance.x12` and `advice.edifact`: what a bank tells of the dues that it has paid for many calls, some of them to
//! another harbour whose accounts begin with 4 or 7.

use super::random::Random;

/// Calls that are paid for in each message.
const ITEMS: u32 = 60;

/// An account, an amount in hundredths and a call, for each item.
fn items(random: &mut Random) -> Vec<(String, u64, String)> {
    let item = |place: u32| {
        let begins = [2, 2, 4, 2, 7, 3, 2][place as usize % 7];
        let account = format!("{begins}{:06}", random.below(1_000_000));
        (
            account,
            5_000 + random.below(900_000),
            format!("VH-{:05}", 100 + place * 37),
        )
    };
    (0..ITEMS).map(item).collect()
}

fn money(hundredths: u64) -> String {
    format!("{}.{:02}", hundredths / 100, hundredths % 100)
}

/// Both files, by their names.
pub(super) fn all() -> [(&'static str, Vec<u8>); 2] {
    let mut random = Random::new(2_709);
    [
        (
            "remittance.x12",
            remittance(&items(&mut random)).into_bytes(),
        ),
        ("advice.edifact", advice(&items(&mut random)).into_bytes()),
    ]
}

/// An 820 of X12 with two payments.
fn remittance(items: &[(String, u64, String)]) -> String {
    let mut text = String::from(
        "ISA*00*          *00*          *ZZ*BANKOFSKARV    *ZZ*PORTVARNHOLM   *260315*0900*^*00501*000000042*0*P*:~\n\
         GS*RA*BANKOFSKARV*PORTVARNHOLM*20260315*0900*42*X*005010~\n",
    );
    for (number, items) in items.chunks(ITEMS as usize / 2).enumerate() {
        let total: u64 = items.iter().map(|(_, amount, _)| amount).sum();
        let control = format!("{:04}", number + 1);
        let mut segments = vec![
            format!("ST*820*{control}"),
            format!("BPR*C*{}*C*ACH*CTX", money(total)),
            format!("TRN*1*PAY2603{}", number + 15),
            "N1*PR*Bank of Skarv".to_owned(),
            "N1*PE*Port of Varnholm".to_owned(),
            "ENT*1".to_owned(),
        ];
        for (account, amount, call) in items {
            segments.push(format!("RMR*IV*{account}**{}", money(*amount)));
            segments.push(format!("REF*CT*{call}"));
            segments.push("DTM*097*20260301".to_owned());
        }
        segments.push(format!("SE*{}*{control}", segments.len() + 1));
        for segment in segments {
            text.push_str(&segment);
            text.push_str("~\n");
        }
    }
    text + "GE*2*42~\nIEA*1*000000042~\n"
}

/// A REMADV of UN/EDIFACT.
fn advice(items: &[(String, u64, String)]) -> String {
    let total: u64 = items.iter().map(|(_, amount, _)| amount).sum();
    let mut segments = vec![
        "UNH+1+REMADV:D:96A:UN".to_owned(),
        "BGM+481+PAY77+9".to_owned(),
        "DTM+137:20260315:102".to_owned(),
        "NAD+PR+++Bank of Skarv ?+ Eider".to_owned(),
        "CUX+2:EUR:11".to_owned(),
    ];
    for (account, amount, call) in items {
        segments.push(format!("DOC+380+{account}"));
        segments.push(format!("MOA+12:{}", money(*amount)));
        segments.push("DTM+171:20260301:102".to_owned());
        segments.push(format!("RFF+CT:{call}"));
    }
    segments.push("UNS+S".to_owned());
    segments.push(format!("MOA+12:{}", money(total)));
    segments.push(format!("CNT+2:{}", items.len()));
    segments.push(format!("UNT+{}+1", segments.len() + 1));
    let body: String = segments
        .iter()
        .map(|segment| format!("{segment}'\n"))
        .collect();
    format!("UNA:+.? '\nUNB+UNOC:3+BANKOFSKARV+PORTVARNHOLM+260315:0900+77'\n{body}UNZ+1+77'\n")
}
