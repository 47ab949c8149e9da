//! Files of all formats that are a little wrong, the same ones each time.

pub(crate) use std::fs;
use std::io::{Read, Write};
use std::path::Path;

use numerant_engine::job::Job;
use zip::write::SimpleFileOptions;

use crate::support::{convert, job};

/// A generator of numbers that are the same each time (SplitMix64; Steele, Lea and Flood 2014).
pub(crate) struct Numbers(pub(crate) u64);

impl Numbers {
    pub(crate) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut number = self.0;
        number = (number ^ (number >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        number = (number ^ (number >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        number ^ (number >> 31)
    }

    /// A number below `end`; 0 if that is 0.
    pub(crate) fn below(&mut self, end: usize) -> usize {
        (self.next() % end.max(1) as u64) as usize
    }
}

/// A format: a file of it that is right, and what is in its files where they go wrong.
pub(crate) struct Seed {
    pub(crate) extension: &'static str,
    pub(crate) bytes: Vec<u8>,
    pub(crate) words: &'static [&'static str],
    /// It is an archive, whose parts go wrong, too.
    pub(crate) is_package: bool,
}

const TABLE: &str = "id,quay,arrived,dues,note\n007,North,2026-03-05,1.10,\"two\nlines\"\n12,Ångkajen,2026-03-06,20,\n3,,,-0.5,\"a \"\"b\"\"\"\n";

const DOCUMENT: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE port [<!ENTITY q \"North\">]>\n<port xmlns:p=\"urn:p\"><calls><call id=\"1\"><quay>&q;</quay><p:dues cur=\"X\">1.50</p:dues><note><![CDATA[a < b]]></note></call><call id=\"2\"><quay>South &amp; East</quay><line><n>1</n></line><line><n>2</n></line></call></calls></port>\n";

const NOTICES: &str = "{\"port\":\"Varnholm\",\"calls\":[{\"id\":1,\"quay\":\"North\",\"lines\":[{\"n\":1,\"t\":1.50},{\"n\":2}],\"at\":{\"lat\":1e2,\"ok\":true}},{\"id\":\"2\",\"quay\":null,\"note\":\"\\u00e5\\ud83d\\ude00\\n\"}]}\n";

const REMITTANCE: &str = "ISA*00*          *00*          *ZZ*VARNHOLM       *ZZ*AGENT          *260305*0900*^*00501*000000001*0*P*:~GS*HP*VARNHOLM*AGENT*20260305*0900*1*X*005010X221A1~ST*835*0001~BPR*I*30*C*ACH~TRN*1*5~N1*PR*Port~LX*1~CLP*C1*1*10*10**12~SVC*HC:B2*10*10~CAS*CO*45*1~CLP*C2*1*20*20**12~SVC*HC:B1*20*20~PLB*1*20261231*WO:5*0~SE*13*0001~GE*1*1~IEA*1*000000001~\n";

const ADVICE: &str = "UNA:+.? 'UNB+UNOA:1+VARNHOLM+AGENT+260305:0900+1'UNH+1+REMADV:D:96A:UN'BGM+481+5+9'DTM+137:20260305:102'DOC+380+C?'1'MOA+12:10.50'DOC+380+C2'MOA+12:20'UNS+S'MOA+9:30.50'CNT+2:2'UNT+11+1'UNZ+1+1'\n";

/// Words that mean something to readers of delimited text, and numbers that are too large for most things.
const COMMON: &[&str] = &[
    "\"",
    "\"\"",
    ",",
    ";",
    "\t",
    "\r\n",
    "\r",
    "\n",
    "\0",
    "\u{feff}",
    "\u{1a}",
    "sep=;\n",
    "é",
    "\\",
    "-1",
    "0",
    "1e400",
    "NaN",
    "inf",
    "99999999999999999999",
    "4294967296",
    "2147483648",
    "-2147483649",
    "65536",
    "1048577",
];

const MARKUP: &[&str] = &[
    "<",
    ">",
    "</",
    "/>",
    "<!--",
    "-->",
    "<![CDATA[",
    "]]>",
    "<?",
    "?>",
    "&#0;",
    "&#x110000;",
    "&q;",
    "&amp;",
    "<!ENTITY a \"&a;\">",
    "<!ENTITY b SYSTEM \"/etc/hostname\">",
    "xmlns=\"urn:x\"",
    "xmlns:p=\"\"",
    " id=\"1\" id=\"2\"",
    "<a>",
    "</a>",
    "encoding=\"utf-16\"",
    "99999999999",
    "\"-1\"",
    "r=\"XFE1\"",
    "r=\"A99999999\"",
    "s=\"99999\"",
    "t=\"s\"",
    "spans=\"1:99999\"",
    "<v>1e400</v>",
    "<c r=\"\"/>",
    "<f t=\"shared\" si=\"0\"/>",
    "count=\"4294967295\"",
    "table:number-columns-repeated=\"999999999\"",
    "table:number-rows-repeated=\"999999999\"",
];

const NESTED: &[&str] = &[
    "{",
    "}",
    "[",
    "]",
    "[[[[[[[[[[[[[[[[",
    "\"",
    ":",
    ",",
    "null",
    "true",
    "\\u",
    "\\ud800",
    "1e999",
    "-0",
    "00",
    "0.1e-9999",
    "\"a\":",
    "{\"a\":{\"a\":",
    "\u{0}",
    "\u{feff}",
];

const SEGMENTS: &[&str] = &[
    "~",
    "*",
    ":",
    "^",
    "'",
    "+",
    "?",
    "??",
    "ISA*",
    "GS*",
    "ST*835*",
    "SE*",
    "IEA*",
    "UNA",
    "UNB+",
    "UNH+",
    "UNT+",
    "UNZ+",
    "CLP*",
    "LX*1~",
    "HL*1**20*1~",
    "PLB*",
    "\n",
    "\0",
    "99999999999999999999",
    "-1",
];

const MARC: &[&str] = &[
    "\u{1d}", "\u{1e}", "\u{1f}", "99999", "00000", "\u{1f}a", "\u{1b}(N", "\u{1b}$1", "\u{1b}s",
    "é", "24", "450", "     ", "a2200000",
];

/// The files, made by the program itself where it writes the format.
pub(crate) fn seeds(folder: &Path) -> Vec<Seed> {
    let write = |name: &str, text: &str| {
        let path = folder.join(name);
        fs::write(&path, text).expect("written");
        path
    };
    let table = write("seed.csv", TABLE);
    let made = |name: &str| fs::read(convert(&table, name, &folder.join("made")).0).expect("there");
    let records = write(
        "records.csv",
        "LDR,001,245$a,650$a,650[2]$a\n00000nam a2200000 a 4500,1,Å chart,Sea,Ice\n00000nam a2200000 a 4500,2,B,,\n",
    );
    let marc = |name: &str| {
        let job: Job = job(&records, name, &folder.join("made"));
        numerant_engine::run(&job, &crate::support::context()).expect("done");
        fs::read(folder.join("made").join(name)).expect("there")
    };
    let seed = |extension, bytes, words| Seed {
        extension,
        bytes,
        words,
        is_package: false,
    };
    let package = |extension, bytes, words| Seed {
        extension,
        bytes,
        words,
        is_package: true,
    };
    vec![
        seed("csv", TABLE.as_bytes().to_vec(), COMMON),
        seed("json", NOTICES.as_bytes().to_vec(), NESTED),
        seed(
            "jsonl",
            b"{\"a\":1,\"b\":[1,2]}\n{\"a\":\"x\",\"c\":{\"d\":null}}\n".to_vec(),
            NESTED,
        ),
        seed("xml", DOCUMENT.as_bytes().to_vec(), MARKUP),
        seed("x12", REMITTANCE.as_bytes().to_vec(), SEGMENTS),
        seed("edifact", ADVICE.as_bytes().to_vec(), SEGMENTS),
        seed("mrc", marc("r.mrc"), MARC),
        seed("marcxml", marc("r.marcxml"), MARKUP),
        seed(
            "xls",
            made("t.xls"),
            &["\u{9}\u{8}", "\0\0\0\0", "\u{fd}\0", "99"],
        ),
        package("xlsx", made("t.xlsx"), MARKUP),
        package(
            "xlsx",
            include_bytes!("../../books/port.xlsx").to_vec(),
            MARKUP,
        ),
        package("ods", made("t.ods"), MARKUP),
        package(
            "xlsb",
            include_bytes!("../../books/calls.xlsb").to_vec(),
            &["\u{1}\0", "\0\0\0\0"],
        ),
        package(
            "zip",
            zipped(&[("a.csv".to_owned(), TABLE.as_bytes().to_vec())]),
            COMMON,
        ),
    ]
}

/// A file that is a little wrong.
pub(crate) fn mutated(seed: &Seed, numbers: &mut Numbers) -> Vec<u8> {
    // A package is damaged as a whole, or in one of its parts.
    if seed.is_package && numbers.below(4) > 0 {
        let mut parts = unzipped(&seed.bytes);
        let place = numbers.below(parts.len());
        parts[place].1 = damaged(&parts[place].1, seed.words, numbers);
        return zipped(&parts);
    }
    damaged(&seed.bytes, seed.words, numbers)
}

fn damaged(bytes: &[u8], words: &[&str], numbers: &mut Numbers) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    for _ in 0..=numbers.below(3) {
        let at = numbers.below(bytes.len());
        let to = (at + 1 + numbers.below(24)).min(bytes.len());
        match numbers.below(8) {
            0 if !bytes.is_empty() => bytes[at] ^= 1 << numbers.below(8),
            1 if !bytes.is_empty() => bytes[at] = numbers.below(256) as u8,
            2 => bytes.truncate(at),
            3 => drop(bytes.drain(at.min(to)..to)),
            4 => {
                let piece = bytes[at.min(to)..to].to_vec();
                let times = [2, 3, 40, 3000][numbers.below(4)];
                bytes.splice(at..at, piece.repeat(times));
            }
            5 => {
                let from = numbers.below(bytes.len());
                let piece = bytes[from..(from + 40).min(bytes.len())].to_vec();
                bytes.splice(at..at, piece);
            }
            _ => {
                let word = words[numbers.below(words.len())].as_bytes().to_vec();
                let over = if numbers.below(2) == 0 {
                    at
                } else {
                    to.max(at)
                };
                bytes.splice(at..over, word);
            }
        }
    }
    bytes
}

fn unzipped(bytes: &[u8]) -> Vec<(String, Vec<u8>)> {
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(bytes)).expect("an archive");
    let parts = (0..archive.len()).map(|place| {
        let mut part = archive.by_index(place).expect("a part");
        let mut bytes = Vec::new();
        part.read_to_end(&mut bytes).expect("readable");
        (part.name().expect("a name").into_owned(), bytes)
    });
    parts.collect()
}

fn zipped(parts: &[(String, Vec<u8>)]) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, bytes) in parts {
        // A name can be wrong, too; such a part is left out.
        if zip
            .start_file(name.as_str(), SimpleFileOptions::default())
            .is_ok()
        {
            zip.write_all(bytes).expect("written");
        }
    }
    zip.finish().expect("finished").into_inner()
}
