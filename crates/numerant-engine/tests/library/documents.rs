//! JSON and XML: documents are flattened and written again, taken apart verbatim, and shaped.

use std::fs;
use std::path::{Path, PathBuf};

use numerant_data::tree::ListLayout;
use numerant_engine::job::Job;
use numerant_engine::{Error, run};
use numerant_format::OptionValue;
use proptest::prelude::*;
use serde_json::Value;

use crate::support::{context, job};

/// Writes `text` to a file, converts it to `name` as `change` says, and returns what comes out.
fn convert_with(
    source: &str,
    text: impl AsRef<[u8]>,
    name: &str,
    change: impl Fn(&mut Job),
) -> Result<String, Error> {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join(source);
    fs::write(&path, text).expect("written");
    let out = folder.path().join("out");
    let mut job = job(&path, name, &out);
    change(&mut job);
    run(&job, &context())?;
    Ok(fs::read_to_string(out.join(name)).expect("UTF-8"))
}

fn convert(source: &str, text: impl AsRef<[u8]>, name: &str) -> Result<String, Error> {
    convert_with(source, text, name, |_| {})
}

/// Some value of JSON, as deep as `depth`.
fn json(depth: u32) -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::Bool),
        (-1000_i64..1000).prop_map(Value::from),
        (-100_i64..100).prop_map(|n| Value::from(n as f64 / 8.0)),
        prop_oneof![
            "[ -~Åß🚢\n\t]{0,8}",
            Just("007".into()),
            Just("12".into()),
            Just("1e5".into()),
            Just("true".into()),
            Just("[]".into()),
            Just("2026-03-05".into()),
            Just("\u{1c}\u{1d}\u{1e}\u{1f}".into()),
            Just("\u{1c}".into()),
        ]
        .prop_map(Value::String),
    ];
    leaf.prop_recursive(depth, 24, 4, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..4).prop_map(Value::Array),
            object(inner),
        ]
    })
}

fn object(inner: impl Strategy<Value = Value> + 'static) -> impl Strategy<Value = Value> {
    let name = prop_oneof![
        4 => "[a-d]",
        1 => prop_oneof![
            Just("a.b"), Just(""), Just("1"), Just("@a"), Just("x y"), Just("A"), Just("\\0"),
            Just("#text"), Just("{}")
        ].prop_map(str::to_owned),
    ];
    proptest::collection::btree_map(name, inner, 0..4)
        .prop_map(|members| Value::Object(members.into_iter().collect()))
}

/// Whether a list is there where another record has an object, or the other way round, and one of
/// them has nothing in it: which it was cannot be detected from columns then.
fn kinds_differ(records: &[Value]) -> bool {
    fn walk(value: &Value, path: &str, kinds: &mut std::collections::HashMap<String, [bool; 3]>) {
        let place = match value {
            Value::Object(_) => 0,
            Value::Array(_) => 1,
            _ => 2,
        };
        kinds.entry(path.to_owned()).or_default()[place] = true;
        match value {
            Value::Object(members) => {
                for (name, member) in members {
                    walk(member, &format!("{path}/{name:?}"), kinds);
                }
            }
            Value::Array(items) => {
                for (number, item) in items.iter().enumerate() {
                    walk(item, &format!("{path}/{number}"), kinds);
                }
            }
            _ => {}
        }
    }
    let mut kinds = std::collections::HashMap::new();
    for record in records {
        walk(record, "", &mut kinds);
    }
    kinds
        .values()
        .any(|found| found.iter().filter(|kind| **kind).count() > 1)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]
    #[test]
    fn what_is_laid_out_wide_comes_back_as_the_same_tree(
        records in proptest::collection::vec(object(json(3)), 1..5)
    ) {
        prop_assume!(!kinds_differ(&records));
        prop_assume!(records.iter().any(|record| *record != Value::Object(Default::default())));
        let text = serde_json::to_string(&records).expect("JSON");
        let again = convert_with("in.json", text, "out.json", |job| {
            job.write.of_formats.put("indent", OptionValue::Number(1));
        });
        let again: Value = serde_json::from_str(&again.expect("converted")).expect("JSON");
        prop_assert_eq!(again, Value::Array(records));
    }

    #[test]
    fn records_like_the_one_before_are_read_as_any_other(
        records in proptest::collection::vec(
            ("[ -~Å]{0,12}", -99999_i64..99999, any::<bool>(), proptest::option::of("[0-9eE.-]{1,6}")),
            1..12,
        ),
        gaps in proptest::collection::vec(0_usize..3, 12),
    ) {
        let text = |spaced: bool| -> String {
            let record = |(place, (text, number, truth, other)): (usize, &(String, i64, bool, Option<String>))| {
                let gap = if spaced { " ".repeat(gaps[place % gaps.len()]) } else { String::new() };
                let text = serde_json::to_string(text).expect("JSON");
                let other = serde_json::to_string(other).expect("JSON");
                format!("{{\"text\":{gap}{text},\"number\":{number},\"in\":{{\"truth\":{truth}{gap},\"other\":{other}}}}}\n")
            };
            records.iter().enumerate().map(record).collect()
        };
        let alike = convert("in.jsonl", text(false), "out.csv").expect("converted");
        let plain = convert("in.jsonl", text(true), "out.csv").expect("converted");
        prop_assert_eq!(alike, plain);
    }

    #[test]
    fn elements_come_back_as_the_same_tree(
        records in proptest::collection::vec(element(3), 1..4)
    ) {
        // Elements of different names come in the order in which they first did.
        let first = format!("<call id=\"0\">{}</call>", full(3));
        let body: String = first + &records.concat();
        let text = format!("<port>{body}<call/></port>");
        let again = convert_with("in.xml", &text, "out.xml", |job| {
            job.read.records = Some("/port/call".into());
            job.write.of_formats.set("item", "call");
        });
        let again = again.expect("converted");
        let lines: String = again.lines().skip(2).collect();
        prop_assert_eq!(lines, format!("{body}<call/></port>"));
    }
}

/// What is in an element that has everything.
fn full(depth: u32) -> String {
    match depth {
        0 => "x".to_owned(),
        _ => {
            let inside = full(depth - 1);
            format!("<item>{inside}</item><item>{inside}</item><one>{inside}</one>")
        }
    }
}

fn tag(name: &str, inside: &str) -> String {
    match inside {
        "" => format!("<{name}/>"),
        inside => format!("<{name}>{inside}</{name}>"),
    }
}

/// The text of an element 'call', with its siblings of one name side by side.
fn element(depth: u32) -> impl Strategy<Value = String> {
    fn inside(depth: u32) -> BoxedStrategy<String> {
        let text = "[a-zÅ0-9 ]{1,6}".prop_map(|text| format!("{text}x &amp; &lt;"));
        if depth == 0 {
            return text.boxed();
        }
        let children = (
            proptest::collection::vec(inside(depth - 1), 0..3),
            proptest::option::of(inside(depth - 1)),
        )
            .prop_map(|(many, one)| {
                let many: String = many.iter().map(|text| tag("item", text)).collect();
                let one = one.map_or_else(String::new, |text| tag("one", &text));
                format!("{many}{one}")
            });
        prop_oneof![1 => text, 3 => children].boxed()
    }
    (proptest::option::of("[a-z0-9 ]{1,4}"), inside(depth)).prop_map(|(id, inside)| {
        let id = id.map_or_else(String::new, |id| format!(" id=\"{id}\""));
        match inside.as_str() {
            "" => format!("<call{id}/>"),
            inside => format!("<call{id}>{inside}</call>"),
        }
    })
}

#[test]
fn lists_become_columns_rows_or_one_cell() {
    let text = r#"[{"id":1,"items":[{"code":"A","tags":["x","y"]},{"code":"B","tags":[]}]},
        {"id":2,"items":[]},{"id":3}]"#;
    let flattened = |lists: &str| {
        let lists: ListLayout = lists.parse().expect("a way");
        convert_with("in.json", text, "out.csv", |job| {
            job.read.lists = Some(lists.clone());
        })
    };
    assert_eq!(
        flattened("columns").expect("flattened"),
        "id,items.1.code,items.1.tags.1,items.1.tags.2,items.2.code,items.2.tags\n\
         1,A,x,y,B,[]\n2,,,,,\n3,,,,,\n"
    );
    assert_eq!(
        flattened("rows=items").expect("flattened"),
        "id,items.code,items.tags.1,items.tags.2\n1,A,x,y\n1,B,,\n2,,,\n3,,,\n"
    );
    assert_eq!(
        flattened("rows").expect("flattened"),
        "id,items.code,items.tags\n1,A,x\n1,A,y\n1,B,\n2,,\n3,,\n"
    );
    assert_eq!(
        flattened("keep").expect("flattened"),
        "id,items\n1,\"[{\"\"code\"\":\"\"A\"\",\"\"tags\"\":[\"\"x\"\",\"\"y\"\"]},{\"\"code\"\":\"\"B\"\",\"\"tags\"\":[]}]\"\n2,[]\n3,\n"
    );
    for (lists, what) in [
        ("columns=1", "more than 1 items"),
        ("rows=item", "no list at item"),
    ] {
        let error = flattened(lists).expect_err(lists).to_string();
        assert!(error.contains(what), "{error}");
    }
    let siblings = r#"[{"a":[1,2],"b":[3,4]}]"#;
    let error = convert_with("in.json", siblings, "out.csv", |job| {
        job.read.lists = Some(ListLayout::Rows(None));
    });
    let error = error.expect_err("which").to_string();
    assert!(error.contains("several lists (a, b)"), "{error}");
}

#[test]
fn elements_become_columns_rows_or_one_cell() {
    let text = "<n><notice id='1'><area u='m'>a</area><area>b</area></notice><notice id='2'><area>c</area></notice></n>";
    let flattened = |lists: &str| {
        let lists: ListLayout = lists.parse().expect("a way");
        convert_with("in.xml", text, "out.csv", |job| {
            job.read.records = Some("//notice".into());
            job.read.lists = Some(lists.clone());
        })
        .expect("flattened")
    };
    assert_eq!(
        flattened("columns"),
        "@id,area.1.#text,area.1.@u,area.2\n1,a,m,b\n2,c,,\n"
    );
    assert_eq!(
        flattened("rows"),
        "@id,area.#text,area.@u\n1,a,m\n1,b,\n2,c,\n"
    );
    assert_eq!(
        flattened("keep"),
        "@id,area\n1,\"[{\"\"#text\"\":\"\"a\"\",\"\"@u\"\":\"\"m\"\"},\"\"b\"\"]\"\n2,\"[\"\"c\"\"]\"\n"
    );
}

#[test]
fn values_keep_their_types_and_digits() {
    let json = convert(
        "in.csv",
        "id,code,amount,long,ok,day,blank\n1,007,1.10,12345678901234567890,true,2026-03-05,\n2,8,2.50,1,false,,\n",
        "out.json",
    );
    assert_eq!(
        json.expect("converted"),
        "[\n{\"id\":1,\"code\":\"007\",\"amount\":1.10,\"long\":\"12345678901234567890\",\"ok\":true,\"day\":\"2026-03-05\",\"blank\":null},\n\
         {\"id\":2,\"code\":\"8\",\"amount\":2.50,\"long\":\"1\",\"ok\":false,\"day\":null,\"blank\":null}\n]\n"
    );
    let text = "{\"a\":1.10,\"b\":12345678901234567890,\"c\":1e5,\"d\":\"1e5\",\"e\":-0}\n";
    let lines = convert_with("in.jsonl", text, "out.jsonl", |job| {
        job.write.of_formats.put("flat", OptionValue::Set);
    });
    assert_eq!(lines.expect("converted"), text);
    let csv = convert("in.jsonl", text, "out.csv").expect("converted");
    assert_eq!(csv, "a,b,c,d,e\n1.10,12345678901234567890,1e5,1e5,-0\n");
}

#[test]
fn a_value_far_down_that_belies_the_start_is_no_surprise() {
    let mut csv = "id,amount,code\n".to_owned();
    let mut json = String::new();
    for id in 0..200_000 {
        csv.push_str(&format!("{id},{id}.50,A{id}\n"));
        json.push_str(&format!("{{\"id\":{id},\"in\":{{\"amount\":{id}.50}}}}\n"));
    }
    csv.push_str("200000,n/a,B\n");
    json.push_str("{\"id\":200000,\"other\":\"late\",\"in\":[1]}\n");
    let lines = convert("in.csv", &csv, "out.jsonl").expect("converted");
    assert!(lines.starts_with("{\"id\":0,\"amount\":\"0.50\",\"code\":\"A0\"}\n"));
    assert!(lines.ends_with("{\"id\":200000,\"amount\":\"n/a\",\"code\":\"B\"}\n"));
    let table = convert("in.jsonl", &json, "out.csv").expect("converted");
    assert!(
        table.starts_with("id,in.amount,in.1,other\n0,0.50,,\n"),
        "{}",
        &table[..80]
    );
    assert!(table.ends_with("\n200000,,1,late\n"));
}

#[test]
fn blanks_are_written_as_is_said() {
    let text = r#"[{"a":null,"b":"","c":1},{"b":"x"}]"#;
    let written = |name: &str, nulls: &str| {
        convert_with("in.json", text, name, |job| {
            job.write.of_formats.set("nulls", nulls);
            job.write.of_formats.put("flat", OptionValue::Set);
        })
        .expect("converted")
    };
    assert_eq!(
        written("out.jsonl", "keep"),
        "{\"a\":null,\"b\":\"\",\"c\":1}\n{\"b\":\"x\"}\n"
    );
    assert_eq!(written("out.jsonl", "absent"), "{\"c\":1}\n{\"b\":\"x\"}\n");
    assert_eq!(
        written("out.jsonl", "null"),
        "{\"a\":null,\"b\":null,\"c\":1}\n{\"a\":null,\"b\":\"x\",\"c\":null}\n"
    );
    assert_eq!(
        written("out.jsonl", "empty"),
        "{\"a\":\"\",\"b\":\"\",\"c\":1}\n{\"a\":\"\",\"b\":\"x\",\"c\":\"\"}\n"
    );
    let xml = written("out.xml", "keep");
    assert!(
        xml.contains(
            "<record><a xsi:nil=\"true\"/><b/><c>1</c></record>\n<record><b>x</b></record>"
        ),
        "{xml}"
    );
    let xml = written("out.xml", "absent");
    assert!(
        xml.contains("<records>\n<record><c>1</c></record>"),
        "{xml}"
    );
}

/// The files in a folder, by name.
fn files(folder: &Path) -> Vec<(String, String)> {
    let mut files: Vec<(String, String)> = fs::read_dir(folder)
        .expect("a folder")
        .map(|entry| entry.expect("an entry").path())
        .map(|path: PathBuf| {
            let name = path
                .file_name()
                .expect("a name")
                .to_string_lossy()
                .into_owned();
            (name, fs::read_to_string(&path).expect("UTF-8"))
        })
        .collect();
    files.sort();
    files
}

#[test]
fn parts_keep_the_text_of_records_and_what_is_around_them() {
    let folder = tempfile::tempdir().expect("a folder");
    let split = |source: &str, text: &str, name: &str| {
        let path = folder.path().join(source);
        fs::write(&path, text).expect("written");
        let out = folder.path().join(format!("{source}-out"));
        let mut job = job(&path, name, &out);
        job.read.records = source.ends_with("deep.xml").then(|| "//call".into());
        run(&job, &context()).map(|_| files(&out))
    };
    let json = "{ \"port\": \"Varnholm\",\n  \"calls\": [\n    { \"quay\": \"N\", \"t\": 1.0 },\n    {\"quay\":\"S\" },\n    { \"quay\": \"N\", \"x\": [ ] }\n  ],\n  \"end\": true }\n";
    assert_eq!(
        split("calls.json", json, "{quay}.json").expect("split"),
        [
            ("N.json".into(), "{ \"port\": \"Varnholm\",\n  \"calls\": [\n    { \"quay\": \"N\", \"t\": 1.0 },\n    { \"quay\": \"N\", \"x\": [ ] }\n  ],\n  \"end\": true }\n".into()),
            ("S.json".into(), "{ \"port\": \"Varnholm\",\n  \"calls\": [\n    {\"quay\":\"S\" }\n  ],\n  \"end\": true }\n".into()),
        ]
    );
    let xml = "<?xml version=\"1.0\"?>\n<p:port xmlns:p=\"urn:p\" day='1'>\n  <office>x</office>\n  <p:call q=\"N\"><![CDATA[a<b]]></p:call>\n  <p:call q='S' />\n  <p:call q=\"N\">&amp;</p:call>\n  <end/>\n</p:port>\n<!-- end -->\n";
    let head =
        "<?xml version=\"1.0\"?>\n<p:port xmlns:p=\"urn:p\" day='1'>\n  <office>x</office>\n  ";
    let foot = "\n  <end/>\n</p:port>\n<!-- end -->\n";
    assert_eq!(
        split("calls.xml", xml, "{@q}.xml").expect("split"),
        [
            (
                "N.xml".into(),
                format!(
                    "{head}<p:call q=\"N\"><![CDATA[a<b]]></p:call>\n  <p:call q=\"N\">&amp;</p:call>{foot}"
                )
            ),
            ("S.xml".into(), format!("{head}<p:call q='S' />{foot}")),
        ]
    );
    let lines = "{\"q\":\"N\", \"n\":1}\n{\"q\":\"S\"}\n\n{\"q\":\"N\"}";
    assert_eq!(
        split("calls.jsonl", lines, "{q}.jsonl").expect("split"),
        [
            (
                "N.jsonl".into(),
                "{\"q\":\"N\", \"n\":1}\n{\"q\":\"N\"}\n".into()
            ),
            ("S.jsonl".into(), "{\"q\":\"S\"}\n".into()),
        ]
    );
    // Records in several places: nothing is around all of them, and they are written anew.
    let deep = "<a><g n='1'><call><q>N</q></call></g><g n='2'><call><q>S</q></call></g></a>";
    assert_eq!(
        split("deep.xml", deep, "{q}.xml").expect("split"),
        [
            (
                "N.xml".into(),
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<a>\n<call><q>N</q></call>\n</a>\n"
                    .into()
            ),
            (
                "S.xml".into(),
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<a>\n<call><q>S</q></call>\n</a>\n"
                    .into()
            ),
        ]
    );
}

#[test]
fn broken_documents_say_where_and_why() {
    let deep = "[".repeat(100_000);
    let bomb = {
        let mut text = "<!DOCTYPE a [<!ENTITY a0 'ha'>".to_owned();
        for level in 1..9 {
            text.push_str(&format!(
                "<!ENTITY a{level} '{}'>",
                format!("&a{};", level - 1).repeat(10)
            ));
        }
        text + "]><a><r>&a8;</r><r/></a>"
    };
    let cases: &[(&str, &[u8], &str)] = &[
        ("in.json", b"", "the file is empty"),
        ("in.json", b" \n", "the file is empty"),
        ("in.json", b"{}", "no values"),
        (
            "in.json",
            b"[{\"a\":1},\n5]",
            "line 2: the record that begins here is of another kind",
        ),
        (
            "in.json",
            b"[{\"a\":NaN}]",
            "line 1, character 7: this is not well-formed JSON: expected value",
        ),
        ("in.json", b"[{\"a\":1},\n{\"a\":", "line 2, character 6"),
        ("in.json", b"[{\"a\":1}] x", "line 1, character 11"),
        (
            "in.json",
            b"[{\"a\":1}\n{\"a\":2}]",
            "line 2, character 1: this is not well-formed JSON: a comma or a ']' is missing",
        ),
        (
            "in.json",
            b"[{\"a\":1},]",
            "a value is missing after the comma",
        ),
        (
            "in.json",
            b"[{\"x\":0},\n{\"a\":1,\"a\":2}]",
            "line 2: the record that begins here has the name 'a' twice",
        ),
        ("in.json", b"[{\"a\":\"\\ud800\"}]", "half of a character"),
        (
            "in.json",
            b"[{\"a\":\"\xff\"}]",
            "the bytes FF are not UTF-8",
        ),
        (
            "in.json",
            b"[{'a':1}]",
            "a name in double quotes is missing",
        ),
        ("in.json", deep.as_bytes(), "nested more than 128 levels"),
        ("in.json", b"a,b\n1,2\n", "not JSON as its extension says"),
        ("in.xml", b"", "the file is empty"),
        (
            "in.xml",
            b"<a>\n<b>x</c></a>",
            "line 2, character 5: this is not well-formed XML: </c> does not match <b>",
        ),
        ("in.xml", b"<a/><b/>", "after the end of the root element"),
        ("in.xml", b"<a><p:b/></a>", "the prefix p: is not declared"),
        (
            "in.xml",
            b"<a><r x='1' x='2'/></a>",
            "a tag has the attribute",
        ),
        (
            "in.xml",
            b"<a><r>1</r><r>",
            "the element <r> is never closed",
        ),
        (
            "in.xml",
            b"<a><r>&nbsp;</r><r/></a>",
            "the entity &nbsp; is not known",
        ),
        (
            "in.xml",
            b"<!DOCTYPE a [<!ENTITY e SYSTEM 'file:///x'>]><a><r>&e;</r><r/></a>",
            "not fetched",
        ),
        ("in.xml", bomb.as_bytes(), "this is an entity bomb"),
        (
            "in.xml",
            b"<a><r>\x01</r><r/></a>",
            "control character U+0001",
        ),
        ("in.xml", b"<html><body/></html>", "an HTML page, not XML"),
    ];
    for (name, text, what) in cases {
        let error = convert(name, text, "out.csv").expect_err(what).to_string();
        let shown = String::from_utf8_lossy(&text[..text.len().min(60)]).into_owned();
        assert!(error.contains(what), "{shown}: {error}");
    }
}

#[test]
fn odd_documents_are_read_as_they_are() {
    let utf16: Vec<u8> =
        "\u{feff}<?xml version=\"1.0\" encoding=\"utf-8\"?><a><r>Ø</r><r>b</r></a>"
            .encode_utf16()
            .flat_map(u16::to_le_bytes)
            .collect();
    let attribute = format!("<a><r x='{}'/><r x='1'/></a>", "y".repeat(1_000_000));
    let cases: &[(&str, Vec<u8>, &str)] = &[
        ("in.json", b"\xef\xbb\xbf[{\"a\":1}]".to_vec(), "a\n1\n"),
        ("in.json", b"[[1,2],[3]]".to_vec(), "1,2\n1,2\n3,\n"),
        ("in.json", b"[1,\"a\",null]".to_vec(), "value\n1\na\n\"\"\n"),
        (
            "in.json",
            b"[{\"a.b\":1,\"a\":{\"b\":2},\"\":3,\"1\":4}]".to_vec(),
            "a\\.b,a.b,\\0,\\1\n1,2,3,4\n",
        ),
        ("in.csv", b"{\"a\":1}\n{\"a\":2}\n".to_vec(), "a\n1\n2\n"),
        (
            "in.json",
            b"{\"p\":1,\"calls\":[{\"id\":1},{\"id\":2}]}".to_vec(),
            "id\n1\n2\n",
        ),
        ("in.xml", utf16, "#text\nØ\nb\n"),
        (
            "in.xml",
            b"<?xml version='1.0' encoding='iso-8859-1'?><a><r>\xd8</r><r>b</r></a>".to_vec(),
            "#text\nØ\nb\n",
        ),
        (
            "in.xml",
            b"<!DOCTYPE a SYSTEM 'http://x/y'><a><r>1</r><r>2</r></a>".to_vec(),
            "#text\n1\n2\n",
        ),
        (
            "in.xml",
            b"<a><r><v>1</v></r><r><v><w>2</w></v></r></a>".to_vec(),
            "v.#text,v.w\n1,\n,2\n",
        ),
        (
            "in.xml",
            b"<a><r>x<!-- no --><?no?> y</r><r>\r\nz</r></a>".to_vec(),
            "#text\nx y\n\"\nz\"\n",
        ),
        ("in.xml", attribute.into_bytes(), ""),
    ];
    for (name, text, expected) in cases {
        let found = convert(name, text, "out.csv").expect(expected);
        let shown = String::from_utf8_lossy(&text[..text.len().min(60)]).into_owned();
        if expected.is_empty() {
            assert!(found.len() > 1_000_000, "{shown}");
        } else {
            assert_eq!(found, *expected, "{shown}");
        }
    }
}

#[test]
fn records_are_where_is_said() {
    let text = r#"{"quays":[{"name":"N","calls":[{"id":1,"t":5},{"id":2,"t":50}]},{"name":"S","calls":[{"id":3,"t":7}]}]}"#;
    for (path, ids) in [
        ("$.quays[*].calls[*]", "1 2 3"),
        ("$..calls[*]", "1 2 3"),
        ("$.quays[0].calls[1:]", "2"),
        ("$.quays[*].calls[?@.t > 6]", "2 3"),
    ] {
        let csv = convert_with("in.json", text, "out.csv", |job| {
            job.read.records = Some(path.to_owned());
        });
        let csv = csv.expect(path);
        let found: Vec<&str> = csv
            .lines()
            .skip(1)
            .filter_map(|line| line.split(',').next())
            .collect();
        assert_eq!(found.join(" "), ids, "{path}");
    }
    let wrong = convert_with("in.json", text, "out.csv", |job| {
        job.read.records = Some("quays".into());
    });
    assert!(
        wrong
            .expect_err("no path")
            .to_string()
            .contains("the path of the records, quays")
    );
}

const SHAPE: &str = r#"<?xml version="1.0"?>
<statement day="{.date}" calls="{.rows}">
  <?each quay?>
  <quay name="{quay}">
    <?each?>
    <?optional @note?>
    <call id="{call_id}" note="{remarks}">
      <total>{= net + tax}</total>
      <?optional?>
      <remarks>{remarks}</remarks>
    </call>
  </quay>
</statement>
"#;

#[test]
fn shapes_are_filled_in_by_groups_and_records() {
    let folder = tempfile::tempdir().expect("a folder");
    let shape = folder.path().join("statement.xml");
    let table = "quay,call_id,net,tax,remarks\nNorth,1,10.00,2.50,\nSouth,2,20.00,5.00,late\nNorth,3,1.00,0.25,<b>\n";
    let shaped = |text: &str, name: &str| {
        fs::write(&shape, text).expect("written");
        convert_with("in.csv", table, name, |job| {
            job.write.shape = Some(shape.clone());
        })
    };
    assert_eq!(
        shaped(SHAPE, "out.xml").expect("shaped"),
        r#"<?xml version="1.0" encoding="UTF-8"?>
<statement day="2026-03-05" calls="3">
  <quay name="North">
    <call id="1">
      <total>12.50</total>
    </call>
    <call id="3" note="&lt;b&gt;">
      <total>1.25</total>
      <remarks>&lt;b&gt;</remarks>
    </call>
  </quay>
  <quay name="South">
    <call id="2" note="late">
      <total>25.00</total>
      <remarks>late</remarks>
    </call>
  </quay>
</statement>
"#
    );
    let json = r#"{"from": "{.source}", "calls": ["{each}", {"{optional}": ["why"], "id": "{call_id}", "sum": "{= net + tax}", "at": "{quay}!", "why": "{remarks}"}]}"#;
    assert_eq!(
        shaped(json, "out.json").expect("shaped"),
        "{\"from\":\"in.csv\",\"calls\":[{\"id\":1,\"sum\":12.50,\"at\":\"North!\"},{\"id\":2,\"sum\":25.00,\"at\":\"South!\",\"why\":\"late\"},{\"id\":3,\"sum\":1.25,\"at\":\"North!\",\"why\":\"<b>\"}]}\n"
    );
    for (text, what) in [
        ("<a>\n{quai}</a>", "line 2: there is no column 'quai'"),
        ("<a>\n<b>{= net +}</b></a>", "line 2: the expression ends"),
        ("<a>\n{quay</a>", "line 2: the '{' before 'quay'"),
        ("<a><?each?></a>", "a mark that no element follows"),
        ("<a>\n{quay}</a>", "one value of {quay}"),
        ("<a><b></a>", "not well-formed XML"),
        ("{\"a\": 1}", "this is JSON, and the outputs are XML"),
        ("a,b", "neither an XML nor a JSON document"),
    ] {
        let error = shaped(text, "out.xml").expect_err(what).to_string();
        assert!(error.contains(what), "{error}");
    }
}

#[test]
fn comments_know_their_outputs_and_names_are_made_legal() {
    let xml = convert_with("in.csv", "a b,a_b,1x\n1,2,\u{2116}\n", "out.xml", |job| {
        job.write
            .of_formats
            .set("xml-comment", "{.rows} of {.stem}--{.date}");
        job.write.out_encoding =
            Some(numerant_data::encoding::Encoding::named("windows-1252").expect("known"));
    });
    let xml = xml.expect("converted");
    assert_eq!(
        xml.lines().skip(1).collect::<Vec<_>>(),
        [
            "<!-- 1 of in- -2026-03-05 -->",
            "<records>",
            "<record><a_b>1</a_b><a_b_2>2</a_b_2><_1x>&#8470;</_1x></record>",
            "</records>",
        ],
        "{xml}"
    );
}

#[test]
fn the_longest_list_is_found_wherever_it_stands() {
    let text = "quay ".repeat(1_200_000);
    let json = format!(
        "{{\"codes\":[{{\"code\":1}},{{\"code\":2}}],\"text\":\"{text}\",\"calls\":[{}]}}",
        ["{\"call\":1}"; 5].join(",")
    );
    let xml = format!(
        "<port><code><a>1</a></code><code><a>2</a></code><text>{text}</text>{}</port>",
        "<call><b>1</b></call>".repeat(5)
    );
    let late = format!(
        "{{\"text\":\"{text}\",\"calls\":[{}]}}",
        ["{\"call\":1}"; 5].join(",")
    );
    for (name, text, expected) in [
        ("in.json", json, "call\n1\n1\n1\n1\n1\n"),
        ("in.xml", xml, "b\n1\n1\n1\n1\n1\n"),
        ("in.json", late, "call\n1\n1\n1\n1\n1\n"),
    ] {
        assert_eq!(
            convert(name, text, "out.csv").expect("converted"),
            expected,
            "{name}"
        );
    }
}

#[test]
fn entities_with_elements_are_replaced_across_pieces() {
    let references = "&e;\n".repeat(100_000);
    let text = format!("<!DOCTYPE a [<!ENTITY e '<b>x</b>'>]><a>{references}</a>");
    let out = convert("in.xml", text, "out.csv").expect("converted");
    assert_eq!(out, format!("#text\n{}", "x\n".repeat(100_000)));
}

#[test]
fn a_byte_order_mark_within_a_document_is_a_character() {
    let text = "<a><r><t>1</t></r>\u{feff}<r><t>\u{feff}2</t></r>\u{feff}<r><t>3</t></r></a>";
    let out = convert("in.xml", text, "out.csv").expect("converted");
    assert_eq!(out, "t\n1\n\u{feff}2\n3\n");
    let behind = convert("in.xml", format!("{text}\u{feff}"), "out.csv");
    assert!(behind.is_err());
}
