//! Message batches: X12 and UN/EDIFACT, split, extracted and balanced.

pub(crate) use std::fs;
use std::path::PathBuf;

use crate::support::{Folder, context, tree};
use numerant_data::value::Size;
use numerant_engine::job::Job;
use numerant_engine::{Error, Notice, PartsOptions, Summary, inspect, run, verify_parts};
use numerant_format::{BalanceNote, EncodeError, MessageFacts, ReadOptions};
use numerant_naming::parse_keys;
use numerant_steps::Step;
use proptest::prelude::*;

const ISA: &str = "ISA*00*          *00*          *ZZ*BANKOFSKARV    *ZZ*PORTVARNHOLM   *260315*0900*^*00501*000000042*0*P*:~";

/// A claim: its number, what is paid for it, and its service lines, each with a code and an amount.
type Claim = (String, u64, Vec<(&'static str, u64)>);

fn claims(count: u64) -> Vec<Claim> {
    let claim = |number: u64| {
        let lines = (0..=number % 3)
            .map(|line| (["A1", "B2", "C3"][line as usize], 100 * (line + 1) + number));
        let lines: Vec<(&str, u64)> = lines.collect();
        (
            format!("K{number:03}"),
            lines.iter().map(|(_, amount)| amount).sum(),
            lines,
        )
    };
    (1..=count).map(claim).collect()
}

/// An 835 with these claims in two loops and an adjustment of 50.
fn payment(control: &str, claims: &[Claim]) -> String {
    let paid: u64 = claims.iter().map(|(_, paid, _)| paid).sum();
    let mut segments = vec![
        format!("ST*835*{control}"),
        format!("BPR*I*{}.5*C*ACH", paid as i64 - 50),
        format!("TRN*1*T{control}"),
        "N1*PR*Bank of Skarv".into(),
    ];
    for (number, claims) in claims.chunks(claims.len().div_ceil(2).max(1)).enumerate() {
        segments.push(format!("LX*{}", number + 1));
        segments.push("TS3*P1".into());
        for (id, paid, lines) in claims {
            segments.push(format!("CLP*{id}*1*{paid}*{paid}"));
            segments.push(format!("NM1*QC*1*Lund*Ada****MI*M{id}"));
            for (code, amount) in lines {
                segments.push(format!("SVC*HC:{code}*{amount}*{amount}"));
                segments.push("DTM*472*20260301".into());
            }
        }
    }
    segments.push("PLB*P1*20261231*WO:77*49.5".into());
    segments.push(format!("SE*{}*{control}", segments.len() + 1));
    segments.join("~\n") + "~\n"
}

fn batch(payments: &[String]) -> String {
    format!(
        "{ISA}\nGS*HP*B*P*20260315*0900*42*X*005010~\n{}GE*{}*42~\nIEA*1*000000042~\n",
        payments.concat(),
        payments.len()
    )
}

fn job(folder: &Folder, source: &str, name: &str) -> Job {
    crate::support::job(&folder.path(source), name, &folder.path("out"))
}

fn done(job: &Job) -> Summary {
    let summary = run(job, &context()).expect("done");
    assert!(summary.ledger.balanced);
    summary
}

fn notes(summary: &Summary) -> Vec<BalanceNote> {
    let of = |notice: &Notice| match notice {
        Notice::Balance(note) => Some(note.clone()),
        _ => None,
    };
    summary.notices.iter().filter_map(of).collect()
}

/// What is found in a file of messages.
fn facts(path: PathBuf) -> Vec<MessageFacts> {
    let found = inspect(&path.into(), &Job::default(), 3, &context()).expect("readable");
    found[0].tree.as_ref().expect("messages").messages.clone()
}

/// Whether everything in a file agrees: counts, control numbers and totals.
fn agrees(path: PathBuf) -> bool {
    facts(path)
        .iter()
        .all(|facts| facts.unbalanced + facts.miscounted == 0)
}

fn condition(text: &str) -> Vec<Step> {
    vec![Step::Where(text.parse().expect("a condition"))]
}

#[test]
fn parts_are_complete_messages() {
    let folder = Folder::with(&[]);
    folder.write(
        "pay.x12",
        &batch(&[payment("0001", &claims(6)), payment("0002", &claims(3))]),
    );
    let mut all = job(&folder, "pay.x12", "same.x12");
    done(&all);
    assert_eq!(
        folder.read("out/same.x12"),
        folder.read("pay.x12"),
        "nothing is left out, so nothing changes"
    );
    all.by = parse_keys("CLP01").expect("a key");
    all.name = Some("{CLP01}.x12".parse().expect("a template"));
    match run(&all, &context()).expect_err("the totals would not fit") {
        Error::Encode { problem, .. } => {
            assert!(matches!(*problem, EncodeError::Unbalanced { .. }));
        }
        other => panic!("{other:?}"),
    }
    all.write.of_formats.set("balance", "recompute");
    all.out = Some(folder.path("claims"));
    let summary = done(&all);
    assert_eq!(
        (
            summary.ledger.outputs.len(),
            notes(&summary)[0].dropped[0].as_str()
        ),
        (6, "PLB*P1*20261231*WO:77*49.5~")
    );
    assert_eq!(
        folder.read("claims/K003.x12"),
        format!(
            "{ISA}\nGS*HP*B*P*20260315*0900*42*X*005010~\n\
             ST*835*0001~\nBPR*I*103*C*ACH~\nTRN*1*T0001~\nN1*PR*Bank of Skarv~\nLX*1~\nTS3*P1~\n\
             CLP*K003*1*103*103~\nNM1*QC*1*Lund*Ada****MI*MK003~\nSVC*HC:A1*103*103~\nDTM*472*20260301~\nSE*11*0001~\n\
             ST*835*0002~\nBPR*I*103*C*ACH~\nTRN*1*T0002~\nN1*PR*Bank of Skarv~\nLX*2~\nTS3*P1~\n\
             CLP*K003*1*103*103~\nNM1*QC*1*Lund*Ada****MI*MK003~\nSVC*HC:A1*103*103~\nDTM*472*20260301~\nSE*11*0002~\n\
             GE*2*42~\nIEA*1*000000042~\n"
        )
    );
    for (name, _) in tree(&folder.path("claims")) {
        assert!(agrees(folder.path("claims").join(name)));
    }
    // By message: no layout is needed, and what is in them stays as it is.
    let mut messages = job(&folder, "pay.x12", "{ST02}.x12");
    messages.read.records = Some("messages".to_owned());
    messages.out = Some(folder.path("messages"));
    done(&messages);
    let second = folder.read("messages/0002.x12");
    assert!(
        second.contains(&payment("0002", &claims(3))) && second.contains("GE*1*42~"),
        "{second}"
    );
}

#[test]
fn conditions_hold_for_any_of_what_stands_several_times() {
    let folder = Folder::with(&[]);
    folder.write("pay.x12", &batch(&[payment("0001", &claims(9))]));
    let mut extract = job(&folder, "pay.x12", "taken.csv");
    extract.steps = condition("\"SVC01-2\" = 'B2' AND SVC02 > 205");
    extract.steps.push(Step::Keep(vec![
        "CLP01".into(),
        "NM1[QC]09".into(),
        "TRN02".into(),
        "SVC02".into(),
        "SVC[2]02".into(),
    ]));
    let summary = done(&extract);
    assert_eq!(
        folder.read("out/taken.csv"),
        "CLP01,NM1[QC]09,TRN02,SVC02,SVC[2]02\nK007,MK007,T0001,107,207\nK008,MK008,T0001,108,208\n"
    );
    // A look at it holds the condition in the same way.
    let source = folder.path("pay.x12").into();
    let found = inspect(&source, &extract, 3, &context()).expect("readable");
    let expected = [
        ["K007", "MK007", "T0001", "107", "207"],
        ["K008", "MK008", "T0001", "108", "208"],
    ];
    assert_eq!(found[0].records, expected);
    // What is reported of the condition is its text.
    let left = summary
        .ledger
        .left_out
        .iter()
        .find_map(|left| left.condition.clone());
    assert_eq!(left.as_deref(), Some("\"SVC01-2\" = 'B2' AND SVC02 > 205"));
    let mut keep = job(&folder, "pay.x12", "kept.x12");
    keep.steps = condition("CLP01 LIKE 'K00%' AND NOT (SVC02 < 300)");
    keep.write.of_formats.set("balance", "keep");
    let summary = done(&keep);
    let note = &notes(&summary)[0];
    assert_eq!(
        (note.records, note.kept, note.sum.to_string()),
        ((3, 9), true, "1845".to_owned())
    );
    let text = folder.read("out/kept.x12");
    assert!(
        text.contains("PLB*P1")
            && text.contains(&format!(
                "BPR*I*{}.5",
                note.stated.to_string().split('.').next().expect("digits")
            )),
        "{text}"
    );
}

const ADVICE: &str = "UNA:+,? '\r\nUNB+UNOC:3+BANK+PORT+260315:0900+77'\r\nUNH+1+REMADV:D:96A:UN'\r\nBGM+481+PAY77+9'\r\n\
    NAD+PR+++Skarv ?+ Eider?'s'\r\n\
    DOC+380+4001'\r\nMOA+12:100,50'\r\nRFF+CT:C1'\r\nDOC+380+2002'\r\nMOA+12:1,25'\r\nDOC+380+7003'\r\nMOA+12:10'\r\n\
    UNS+S'\r\nMOA+12:111,75'\r\nCNT+2:3'\r\nUNT+14+1'\r\nUNZ+1+77'\r\n";

#[test]
fn edifact_has_its_totals_behind_the_records() {
    let folder = Folder::with(&[("advice.edi", ADVICE)]);
    let found = &facts(folder.path("advice.edi"))[0];
    assert_eq!(
        (
            found.layout.as_deref(),
            found.records,
            found.unbalanced,
            found.miscounted
        ),
        (Some("EDIFACT REMADV"), 3, 0, 0)
    );
    let mut extract = job(&folder, "advice.edi", "other.edi");
    extract.steps = condition("DOC02 LIKE '4%' OR DOC02 LIKE '7%'");
    extract.write.of_formats.set("balance", "recompute");
    done(&extract);
    let text = folder.read("out/other.edi");
    assert!(
        text.ends_with("UNS+S'\r\nMOA+12:110,50'\r\nCNT+2:2'\r\nUNT+12+1'\r\nUNZ+1+77'\r\n"),
        "{text}"
    );
    assert!(
        text.contains("NAD+PR+++Skarv ?+ Eider?'s'\r\n") && agrees(folder.path("out/other.edi"))
    );
    // A further interchange has marks of its own.
    let plain = ADVICE.replacen("UNA:+,? '\r\n", "", 1).replace(',', ".");
    folder.write("two.edi", &format!("{ADVICE}{plain}"));
    let mut both = job(&folder, "two.edi", "both.edi");
    both.steps = condition("DOC02 = '2002'");
    both.write.of_formats.set("balance", "recompute");
    done(&both);
    let text = folder.read("out/both.edi");
    assert!(
        text.contains("UNS+S'\r\nMOA+12:1,25'") && text.contains("UNS+S'\r\nMOA+12:1.25'"),
        "{text}"
    );
    let mut table = job(&folder, "advice.edi", "items.csv");
    table.steps = vec![Step::Keep(
        ["BGM02", "DOC02", "MOA[12]01-2", "RFF[CT]01-2"]
            .map(str::to_owned)
            .into(),
    )];
    done(&table);
    assert_eq!(
        folder.read("out/items.csv"),
        "BGM02,DOC02,MOA[12]01-2,RFF[CT]01-2\nPAY77,4001,\"100,50\",C1\nPAY77,2002,\"1,25\",\nPAY77,7003,10,\n"
    );
}

#[test]
fn what_does_not_agree_is_told_and_mended() {
    let folder = Folder::with(&[]);
    let wrong = batch(&[payment("0001", &claims(4))])
        .replace("SE*", "SE*1")
        .replace("GE*1*42", "GE*7*42")
        .replace("BPR*I*", "BPR*I*9");
    folder.write("wrong.x12", &wrong);
    let found = &facts(folder.path("wrong.x12"))[0];
    assert_eq!((found.unbalanced, found.miscounted), (1, 2));
    let mut messages = job(&folder, "wrong.x12", "mended.x12");
    messages.steps = condition("CLP01 <> 'K001'");
    messages.write.of_formats.set("balance", "recompute");
    let summary = done(&messages);
    assert!(
        summary.notices.iter().any(
            |notice| matches!(notice, Notice::Messages { facts, .. } if facts.unbalanced == 1)
        )
    );
    assert!(agrees(folder.path("out/mended.x12")));
}

#[test]
fn counts_that_are_wrong_are_mended_kept_or_refused() {
    let folder = Folder::with(&[]);
    let right = batch(&[payment("0001", &claims(4)), payment("0002", &claims(2))])
        .replace(".5*C*ACH", "*C*ACH")
        .replace("WO:77*49.5", "WO:77*50");
    let wrong = right
        .replacen("SE*", "SE*1", 1)
        .replace("GE*2*42", "GE*7*43")
        .replace("IEA*1*000000042", "IEA*3*000000044");
    folder.write("wrong.x12", &wrong);
    assert_eq!(facts(folder.path("wrong.x12"))[0].miscounted, 5);
    let write = |policy: &str, steps: Vec<Step>, whole: bool, name: &str| {
        let mut copy = job(&folder, "wrong.x12", name);
        copy.read.of_formats.set("miscounted", policy);
        copy.read.records = whole.then(|| "messages".to_owned());
        copy.steps = steps;
        copy.write.of_formats.set("balance", "recompute");
        run(&copy, &context()).map(|_| folder.read(&format!("out/{name}")))
    };
    for whole in [false, true] {
        let name = |name: &str| format!("{name} {whole}.x12");
        let mended = write("correct", vec![], whole, &name("mended"));
        assert_eq!(mended.expect("written"), right);
        let kept = write("keep", vec![], whole, &name("kept"));
        assert_eq!(kept.expect("written"), wrong);
        let refused = write("refuse", vec![], whole, &name("refused"));
        let error = refused.expect_err("refused").to_string();
        let what = "SE01 states 134, and the segments of the message are 34";
        assert!(error.contains(what), "{error}");
        assert!(!folder.path(&format!("out/{}", name("refused"))).exists());
    }
    // What is only taken in part has counts of its own.
    let steps = condition("CLP01 = 'K001'");
    let cut = write("keep", steps, false, "cut.x12").expect("written");
    assert!(
        cut.contains("SE*13*0001~\n") && cut.ends_with("GE*7*43~\nIEA*3*000000044~\n"),
        "both messages are there, the first in part: {cut}"
    );
    let steps = condition("CLP01 = 'K004'");
    let cut = write("keep", steps, false, "one.x12").expect("written");
    assert!(
        cut.ends_with("GE*1*42~\nIEA*3*000000044~\n"),
        "all groups are there, and not all messages: {cut}"
    );
}

#[test]
fn names_of_segments_may_be_small() {
    let folder = Folder::with(&[]);
    let capitals = batch(&[payment("0001", &claims(6))]);
    let ids = [
        "ISA", "GS", "ST", "BPR", "TRN", "N1", "LX", "TS3", "CLP", "NM1", "SVC", "DTM", "PLB",
        "SE", "GE", "IEA",
    ];
    let mut small = format!("\n{capitals}");
    for id in ids {
        small = small.replace(&format!("\n{id}*"), &format!("\n{}*", id.to_lowercase()));
    }
    folder.write("small.x12", &small[1..]);
    folder.write("capitals.x12", &capitals);
    let (small, capitals) = (
        &facts(folder.path("small.x12"))[0],
        &facts(folder.path("capitals.x12"))[0],
    );
    assert_eq!((capitals.lower_case, small.lower_case), (0, 17));
    assert_eq!(small.first.as_deref(), Some("isa is read as ISA"));
    assert_eq!(
        (small.records, small.stated, small.found, small.miscounted),
        (6, capitals.stated, capitals.found, 0)
    );
    let mut texts = Vec::new();
    for name in ["small.x12", "capitals.x12"] {
        let mut taken = job(&folder, name, name);
        taken.steps = condition("\"NM1[QC]09\" = 'MK002' OR SVC02 > 104");
        taken.write.of_formats.set("balance", "recompute");
        let summary = done(&taken);
        let is_reported = |notice: &Notice| matches!(notice, Notice::Messages { facts, .. } if facts.lower_case > 0);
        assert_eq!(summary.notices.iter().any(is_reported), name == "small.x12");
        assert!(agrees(folder.path(&format!("out/{name}"))));
        texts.push(folder.read(&format!("out/{name}")));
        let mut table = job(&folder, name, &format!("{name}.csv"));
        table.steps = vec![Step::Keep(["CLP01", "NM1[QC]09"].map(str::to_owned).into())];
        done(&table);
        let table = folder.read(&format!("out/{name}.csv"));
        assert!(table.ends_with("K006,MK006\n"), "{table}");
    }
    assert_eq!(texts[0].to_uppercase(), texts[1].to_uppercase());
    assert!(
        texts[0].contains("\nclp*K002*") && texts[1].contains("\nCLP*K002*"),
        "segments stay as they stand"
    );
}

#[test]
fn parts_are_proved_whatever_their_totals_are() {
    let folder = Folder::with(&[]);
    folder.write(
        "pay.x12",
        &batch(&[payment("0001", &claims(6)), payment("0002", &claims(3))]),
    );
    let mut split = job(&folder, "pay.x12", "{.n}.x12");
    split.rows = Some(2);
    split.write.of_formats.set("balance", "recompute");
    done(&split);
    let compared = |parts: Vec<PathBuf>| {
        let options = PartsOptions {
            parts_read: None,
            job: Job {
                per_sheet: true,
                ..Job::default()
            },
            whole: vec![folder.path("pay.x12").into()],
            parts: parts.into_iter().map(Into::into).collect(),
            read: ReadOptions::default(),
            keep: Vec::new(),
            ignore: Vec::new(),
            memory: Size(1 << 20),
            list: 20,
            jobs: 0,
        };
        verify_parts(&options, &context()).expect("compared")
    };
    let parts = || (1..6).map(|number| folder.path(&format!("out/{number}.x12")));
    let check = compared(parts().collect());
    assert!(check.holds, "{check:?}");
    assert_eq!(check.columns, ["record without the total of its message"]);
    let lost = compared(parts().skip(1).collect());
    assert_eq!((lost.holds, lost.missing_records), (false, 2));
    // A changed amount of a record is no total.
    let changed = folder
        .read("out/2.x12")
        .replacen("SVC*HC:A1*1", "SVC*HC:A1*2", 1);
    folder.write("out/2.x12", &changed);
    let check = compared(parts().collect());
    assert_eq!((check.missing_records, check.extra_records), (1, 1));
}

#[test]
fn layouts_can_be_ones_own_and_are_asked_for() {
    let own = "name = 'Berth orders'\nstandard = 'x12'\nmessage = '990'\nrecord = 'ORD'\ntail = ['SUM']\n\
               [balance]\ntotal = 'SUM01'\nrecords = 'ORD02'\n";
    let orders = format!(
        "{ISA}GS*XX*B*P*20260315*0900*42*X*005010~ST*990*1~BEG*A~ORD*1*5~TXT*x~ORD*2*7~SUM*12~SE*7*1~ST*991*2~BEG*B~SE*3*2~GE*2*42~IEA*1*000000042~"
    );
    let folder = Folder::with(&[("orders.x12", &orders), ("orders.toml", own)]);
    // What is not known is not taken for a record, or items of others would be among those that are asked for.
    let mut extract = job(&folder, "orders.x12", "{.n}.x12");
    extract.rows = Some(1);
    let error = run(&extract, &context()).expect_err("no layout");
    let what = "no layout defines the records of X12 990";
    assert!(error.to_string().contains(what), "{error}");
    assert_eq!(
        facts(folder.path("orders.x12")).len(),
        2,
        "inspect looks at them"
    );
    // Whole messages may have many items, known or not.
    let many: Vec<Claim> = (0..150)
        .map(|n| (format!("K{n}"), 1, vec![("A1", 1)]))
        .collect();
    let many = batch(&[payment("0001", &many), payment("0002", &claims(1))]);
    folder.write("many.x12", &many);
    folder.write("unknown.x12", &many.replace("ST*835", "ST*999"));
    assert_eq!(facts(folder.path("unknown.x12"))[0].records, 2);
    let mut whole = job(&folder, "many.x12", "message {ST02}.x12");
    whole.read.records = Some("messages".to_owned());
    whole.steps = condition("SVC02 < 50 AND CLP01 = 'K149'");
    done(&whole);
    assert!(
        folder
            .read("out/message 0001.x12")
            .contains("CLP*K149*1*1*1~")
    );
    assert!(!folder.path("out/message 0002.x12").exists());
    let mut table = job(&folder, "many.x12", "many.csv");
    table.read.records = Some("messages".to_owned());
    table.read.lists = Some("columns=100".parse().expect("columns"));
    let error = run(&table, &context()).expect_err("too many items");
    assert!(
        error
            .to_string()
            .contains("many.x12, record 1: the list 'CLP' has more than 100"),
        "{error}"
    );
    // What cannot be tried is refused, and not answered by the first of each.
    whole.steps = condition("SVC02 < 50 AND CLP01 = 'K149' AND DTM01 = '472'");
    let error = run(&whole, &context()).expect_err("too many ways");
    assert!(
        error.to_string().contains("can be chosen in 3375000 ways"),
        "{error}"
    );
    let mut kinds = job(&folder, "orders.x12", "{ST01}.x12");
    kinds.read.records = Some("messages".to_owned());
    done(&kinds);
    assert!(
        folder
            .read("out/991.x12")
            .ends_with("ST*991*2~BEG*B~SE*3*2~GE*1*42~IEA*1*000000042~")
    );
    extract.sources = vec![folder.path("out/990.x12").into()];
    extract.read.layout = vec![folder.path("orders.toml")];
    extract.write.of_formats.set("balance", "recompute");
    done(&extract);
    let read = |number: u32| folder.read(&format!("out/{number}.x12"));
    assert!(
        read(2).contains("ST*990*1~BEG*A~ORD*2*7~SUM*7~SE*5*1~GE*1*42~"),
        "{}",
        read(2)
    );
    folder.write("broken.toml", "name = 1");
    extract.read.layout = vec![folder.path("broken.toml")];
    assert!(
        run(&extract, &context())
            .expect_err("no layout")
            .to_string()
            .contains("broken.toml")
    );
}

#[test]
fn broken_envelopes_are_told_with_their_place() {
    let whole = batch(&[payment("0001", &claims(2))]);
    for (name, text, what) in [
        (
            "cut.x12",
            whole[..whole.len() - 60].to_owned(),
            "the file ends in",
        ),
        (
            "middle.x12",
            whole[..300].to_owned(),
            "in the middle of a segment",
        ),
        (
            "nose.x12",
            whole.replace("SE*", "SX*"),
            "within a message that no SE has closed",
        ),
        (
            "nested.x12",
            whole.replace("GS*", &format!("{ISA}GS*")),
            "ISA within an interchange",
        ),
        (
            "before.x12",
            format!("From: the bank\n\n{whole}"),
            "16 bytes of other text come before the messages",
        ),
        ("other.x12", "hello\n".to_owned(), "not X12"),
        (
            "outside.x12",
            whole.replace("ST*835*0001~\n", ""),
            "outside of a message",
        ),
        ("empty.x12", String::new(), "empty"),
        ("only.x12", ISA.to_owned(), "not closed"),
    ] {
        let folder = Folder::with(&[(name, &text)]);
        let mut convert = job(&folder, name, "x.csv");
        convert.read.from = Some("x12".to_owned());
        let error = run(&convert, &context()).expect_err(name).to_string();
        assert!(error.contains(what), "{name}: {error}");
        assert!(!folder.path("out").exists(), "{name}");
    }
    // Two interchanges with marks of their own, blank lines between segments, and no line ends at all.
    let other = whole
        .replace('*', "|")
        .replace(":", ">")
        .replace("~\n", "!");
    let folder = Folder::with(&[(
        "two.x12",
        &format!("\n{}\n\n{other}", whole.replace("~\n", "~\r\n\r\n")),
    )]);
    let mut split = job(&folder, "two.x12", "{CLP01}.x12");
    split.write.of_formats.set("balance", "recompute");
    done(&split);
    let text = folder.read("out/K001.x12");
    assert!(
        text.contains("SVC*HC:A1*101*101~\r\n") && text.contains("SVC|HC>A1|101|101!"),
        "{text}"
    );
    assert!(agrees(folder.path("out/K001.x12")));
    // Tables cannot become messages.
    folder.write("calls.csv", "call\nC1\n");
    let error = run(&job(&folder, "calls.csv", "calls.x12"), &context()).expect_err("no messages");
    assert!(
        error
            .to_string()
            .contains("messages can be written only from"),
        "{error}"
    );
}

/// The segments of all records of a file, verbatim, in order.
fn records(text: &str) -> Vec<String> {
    let mut records: Vec<String> = Vec::new();
    let mut inside = false;
    for segment in text.split_inclusive('~') {
        let id = segment.trim_start().split('*').next().unwrap_or_default();
        if id == "CLP" {
            records.push(String::new());
        }
        inside = match id {
            "CLP" => true,
            "LX" | "PLB" | "SE" => false,
            _ => inside,
        };
        if let Some(record) = records.last_mut().filter(|_| inside) {
            record.push_str(segment.trim_start());
        }
    }
    records
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn any_selection_balances_and_parts_hold_every_record(sizes in prop::collection::vec(1_u64..8, 1..5), rows in 1_u64..6) {
        let payments: Vec<String> = sizes.iter().enumerate().map(|(number, size)| payment(&format!("{number:04}"), &claims(*size))).collect();
        let whole = batch(&payments);
        let folder = Folder::with(&[("whole.x12", &whole)]);
        let mut split = job(&folder, "whole.x12", "{.n:03}.x12");
        split.rows = Some(rows);
        split.write.of_formats.set("balance", "recompute");
        done(&split);
        let mut found = Vec::new();
        for (name, bytes) in tree(&folder.path("out")) {
            found.extend(records(&String::from_utf8(bytes).expect("text")));
            let facts = facts(folder.path("out").join(&name));
            prop_assert!(facts.iter().all(|facts| facts.miscounted == 0), "{:?}", facts);
            // Messages that are all there keep their total, which is a half off with their adjustment.
            let cut = |facts: &MessageFacts| facts.records < sizes[0];
            prop_assert!(facts.iter().all(|facts| facts.unbalanced == 0 || !cut(facts)), "{:?}", facts);
        }
        prop_assert_eq!(found, records(&whole));
        let mut combine = job(&folder, "out", "whole.x12");
        combine.sources = crate::support::files_below(&folder.path("out"));
        combine.out = Some(folder.path("again"));
        done(&combine);
        let again = fs::read_to_string(folder.path("again/whole.x12")).expect("readable");
        prop_assert_eq!(records(&again), records(&whole));
    }
}

/// A message of claims: levels, each in one of those before it or in none, with so many claims.
fn levels() -> impl Strategy<Value = Vec<(usize, u8)>> {
    prop::collection::vec((0_usize..6, 0_u8..3), 1..9)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn every_segment_of_a_hierarchy_is_in_a_part(levels in levels()) {
        let mut segments = vec!["BHT*0019*00*1".to_owned()];
        for (number, (parent, claims)) in levels.iter().enumerate() {
            let parent = match parent % (number + 1) {
                0 => String::new(),
                parent => parent.to_string(),
            };
            segments.push(format!("HL*{}*{parent}*20", number + 1));
            segments.push(format!("NM1*IL*1*L{number}"));
            for claim in 0..*claims {
                segments.push(format!("CLM*K{number}-{claim}*10"));
                segments.push(format!("LX*{number}-{claim}"));
            }
        }
        let total: u8 = levels.iter().map(|(_, claims)| claims).sum();
        let count = segments.len() + 2;
        let whole = format!(
            "{ISA}GS*HC*A*B*20260305*0900*1*X*005010X222A1~\nST*837*0001~\n{}~\nSE*{count}*0001~\nGE*1*1~\nIEA*1*000000001~\n",
            segments.join("~\n")
        );
        let layout = "name = 'Claims'\nstandard = 'x12'\nmessage = '837'\nrecord = 'CLM'\nloops = ['HL']\n";
        let folder = Folder::with(&[("whole.x12", &whole), ("837.toml", layout)]);
        let mut split = job(&folder, "whole.x12", "{CLM01}.x12");
        split.read.layout = vec![folder.path("837.toml")];
        let summary = run(&split, &context()).expect("done");
        let parts: Vec<String> = if folder.path("out").exists() { tree(&folder.path("out")).into_values().map(|bytes| String::from_utf8(bytes).expect("text")).collect() } else { Vec::new() };
        if total == 0 {
            // Nothing could be taken, and that is counted.
            let left: u64 = summary.ledger.sources[0].values_left_out.iter().map(|left| left.values).sum();
            prop_assert_eq!(left, count as u64);
            return Ok(());
        }
        let read = summary.ledger.sources[0].segments.expect("counted");
        let in_source = whole.matches("~\n").count() as u64 + 1;
        prop_assert_eq!((read.read, read.adds_up()), (in_source, true));
        let written = summary.ledger.segments.expect("counted");
        let in_parts: usize = parts.iter().map(|part| part.matches('~').count()).sum();
        prop_assert_eq!(written.written, in_parts as u64);
        prop_assert_eq!((written.records, read.records), (2 * u64::from(total), 2 * u64::from(total)));
        for segment in segments.iter().filter(|segment| !segment.starts_with("HL")) {
            prop_assert!(parts.iter().any(|part| part.contains(&format!("{segment}~"))), "{}", segment);
        }
        for part in &parts {
            let levels: Vec<Vec<&str>> = part.split("~\n").filter(|segment| segment.starts_with("HL*")).map(|segment| segment.split('*').collect()).collect();
            for (place, level) in levels.iter().enumerate() {
                if usize::from(total) > 1 && parts.len() > 1 {
                    prop_assert_eq!(level[1], (place + 1).to_string());
                }
                let parent = level[2];
                prop_assert!(parent.is_empty() || levels[..place].iter().any(|known| known[1] == parent), "{}", part);
            }
        }
    }
}
