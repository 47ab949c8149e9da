//! `numerant deliver`, as far as no mail server is needed; `tools/mail.py` has the rest.

use std::fs;

use insta::assert_snapshot;

use crate::support::Bench;

/// A run by quay with its ledger, and routes for all quays.
fn prepared() -> Bench {
    let bench = Bench::with_calls();
    let split = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--total",
        "dues",
        "--ledger",
        "calls.json",
        "--quiet",
    ];
    let done = bench.run(&[&split[..], &["--out", "parts"]].concat());
    assert!(done.contains("code 0"), "{done}");
    bench.write(
        "routes.csv",
        "quay,to,cc,name\n\
         North,\"Ada <ada@varnholm.example>\",chief@varnholm.example,Ada\n\
         Ro/Ro,bo@varnholm.example,,Bo\n\
         Ångkajen,\"ada@varnholm.example\",chief@varnholm.example,Ada\n\
         ,\"office@varnholm.example, bo@varnholm.example\",,Gi\n",
    );
    bench
}

const WORDS: [&str; 8] = [
    "deliver",
    "calls.json",
    "--routes",
    "routes.csv",
    "--from",
    "Port <port@varnholm.example>",
    "--subject",
    "{name}: {.rows} calls, {.total:dues}",
];

fn run(bench: &Bench, more: &[&str]) -> String {
    bench.run(&[&WORDS[..], more].concat())
}

#[test]
fn a_plan_shows_who_gets_what() {
    let bench = prepared();
    assert_snapshot!(run(&bench, &["--plan"]));
    assert_snapshot!(run(
        &bench,
        &["--plan", "--report", "json", "--only", "North"]
    ));
    assert!(
        !bench
            .files()
            .iter()
            .any(|file| file.contains("draft") || file.contains("deliveries"))
    );
}

#[test]
fn drafts_have_the_outputs_and_are_written_once() {
    let bench = prepared();
    let first = run(&bench, &[]);
    assert!(first.contains("3 delivered\n"), "{first}");
    let drafts: Vec<String> = bench
        .files()
        .into_iter()
        .filter(|file| file.starts_with("drafts/"))
        .collect();
    assert_eq!(drafts.len(), 3, "{drafts:?}");
    let ada = drafts
        .iter()
        .find(|draft| draft.starts_with("drafts/ada-"))
        .expect("Ada's");
    let mail = bench.read(ada);
    for line in [
        "Subject: Ada: 3 calls, 11.40",
        "To: Ada <ada@varnholm.example>",
        "Cc: chief@varnholm.example",
        "Content-Disposition: attachment; filename=\"North.csv\"",
        "X-Unsent: 1",
    ] {
        assert!(
            mail.lines().any(|known| known.trim_end() == line),
            "{line}\n{mail}"
        );
    }
    let again = run(&bench, &[]);
    assert!(again.contains("0 delivered, 3 delivered before"), "{again}");
    // A draft that was thrown away is not written again: the journal says that it was handed over.
    fs::remove_file(bench.path(ada)).expect("removed");
    run(&bench, &[]);
    assert!(!bench.path(ada).exists());
    let history = bench.run(&["deliver", "calls.json", "--history"]);
    assert_eq!(history.matches("delivered").count(), 3, "{history}");
}

#[test]
fn what_cannot_be_delivered_is_refused_before_anything_is() {
    let bench = prepared();
    let routes = bench.read("routes.csv");
    let mut said = String::new();
    let mut tries = |routes: &str, more: &[&str]| {
        bench.write("routes.csv", routes);
        said.push_str(&run(&bench, more));
    };
    tries(&routes.replace("Ro/Ro", "Ro Ro"), &[]);
    tries(&format!("{routes}West,west@varnholm.example,,W\n"), &[]);
    tries(
        &routes.replace("bo@varnholm.example,,Bo", "bo at varnholm,,Bo"),
        &[],
    );
    tries(&routes.replace("quay,to", "pier,to"), &[]);
    tries(&routes, &["--domains", "port.example"]);
    tries(&routes, &["--max-message", "4200"]);
    tries(&routes, &["--only", "South"]);
    tries(
        &routes,
        &["--channel", "smtp", "--smtp", "localhost", "--user", "port"],
    );
    tries(&routes.replace("name", "nome"), &[]);
    bench.write("parts/North.csv", "id\n");
    tries(&routes, &[]);
    assert_snapshot!(said);
    assert!(
        !bench
            .files()
            .iter()
            .any(|file| file.contains("draft") || file.contains("deliveries"))
    );
}

#[test]
fn files_are_copied_into_folders_and_never_over_others() {
    let bench = prepared();
    bench.write(
        "folders.csv",
        "quay,folder\nNorth,a/{quay}\nRo/Ro,b\nÅngkajen,../out\n,b\n",
    );
    let words = [
        "deliver",
        "calls.json",
        "--routes",
        "folders.csv",
        "--channel",
        "folder",
        "--into",
        "people",
    ];
    bench.write("people/b/Ro_Ro.csv", "another");
    let refused = bench.run(&words);
    assert!(
        refused.contains("row 3: the folder '../out' is not one below")
            && refused.contains("code 1"),
        "{refused}"
    );
    assert!(
        !bench
            .files()
            .iter()
            .any(|file| file.starts_with("out/") || file.starts_with("people/a"))
    );
    bench.write(
        "folders.csv",
        "quay,folder\nNorth,a/{quay}\nRo/Ro,b\nÅngkajen,c\n,b\n",
    );
    let done = bench.run(&words);
    assert!(
        done.contains("2 delivered, 1 failed") && done.contains("code 3"),
        "{done}"
    );
    assert!(done.contains("another file is there"), "{done}");
    assert_eq!(
        bench.read("people/a/North/North.csv"),
        bench.read("parts/North.csv")
    );
    assert_eq!(bench.read("people/b/Ro_Ro.csv"), "another");
    // What failed is done when it can be.
    fs::remove_file(bench.path("people/b/Ro_Ro.csv")).expect("removed");
    let done = bench.run(&words);
    assert!(done.contains("1 delivered, 2 delivered before"), "{done}");
    assert_eq!(
        bench.read("people/b/Ro_Ro.csv"),
        bench.read("parts/Ro_Ro.csv")
    );
}

#[test]
fn one_route_for_all_outputs_makes_a_folder_for_each() {
    let bench = prepared();
    bench.write("folders.csv", "quay,folder\n*,quays/of {quay}\n");
    let words = [
        "deliver",
        "calls.json",
        "--routes",
        "folders.csv",
        "--channel",
        "folder",
        "--into",
        "people",
    ];
    let done = bench.run(&words);
    assert!(done.contains("4 delivered"), "{done}");
    for (folder, file) in [("quays/of North", "North"), ("quays/of Ro/Ro", "Ro_Ro")] {
        let copied = bench.read(&format!("people/{folder}/{file}.csv"));
        assert_eq!(copied, bench.read(&format!("parts/{file}.csv")));
    }
    // One folder for all is one hand-over.
    bench.write("folders.csv", "quay,folder\n*,all\n");
    let done = bench.run(&[&words[..], &["--journal", "j"]].concat());
    assert!(done.contains("1 delivered"), "{done}");
}

#[test]
fn a_program_takes_messages_and_says_what_became_of_them() {
    let bench = prepared();
    let words = [
        "--channel",
        "command",
        "--program",
        "/bin/sh -c 'cat >> taken; grep -q Ada: taken && exit 75; exit 0'",
    ];
    let done = run(&bench, &[&words[..], &["--retries", "0"]].concat());
    assert!(done.contains("failed") && done.contains("code 3"), "{done}");
    assert!(bench.read("taken").contains("Subject: Ada: 3 calls, 11.40"));
}

#[test]
fn a_job_delivers_after_its_split() {
    let bench = prepared();
    bench.write(
        "night.toml",
        "[[job]]\ncommand = \"split\"\nsources = [\"calls.csv\"]\nby = [\"quay\"]\nledger = \"n.json\"\nout = \"n\"\n\n\
         [[job]]\ncommand = \"verify\"\nledger = \"n.json\"\n\n\
         [[job]]\ncommand = \"deliver\"\nledger = \"n.json\"\nroutes = \"routes.csv\"\nfrom = \"port@varnholm.example\"\n\
         subject = \"{quay}\"\n",
    );
    let done = bench.run(&["run", "night.toml"]);
    assert!(done.contains("3 delivered"), "{done}");
    let saved = run(&bench, &["--save-job", "deliver.toml"]);
    assert!(saved.contains("code 0"), "{saved}");
    assert_snapshot!(bench.read("deliver.toml"));
}

#[test]
fn a_message_about_a_run_goes_to_those_that_the_job_file_names() {
    let bench = prepared();
    let job = |routes: &str, when: &str| {
        format!(
            "[notify]\nto = \"analyst@varnholm.example\"\nfrom = \"port@varnholm.example\"\ninto = \"notices\"\nwhen = \"{when}\"\n\n\
             [[job]]\ncommand = \"split\"\nsources = [\"calls.csv\"]\nby = [\"quay\"]\nledger = \"n.json\"\nout = \"n\"\n\
             existing = \"replace\"\npage = \"run.html\"\n\n\
             [[job]]\ncommand = \"deliver\"\nledger = \"n.json\"\nroutes = \"{routes}\"\nfrom = \"port@varnholm.example\"\n"
        )
    };
    let notices = |bench: &Bench| -> Vec<String> {
        let files = bench
            .files()
            .into_iter()
            .filter(|file| file.starts_with("notices/"));
        files.map(|file| bench.read(&file)).collect()
    };
    bench.write("night.toml", job("routes.csv", "always"));
    let done = bench.run(&["run", "night.toml"]);
    assert!(done.contains("code 0"), "{done}");
    let mails = notices(&bench);
    assert_eq!(mails.len(), 1);
    for part in [
        "Subject: night.toml: done",
        "filename=\"run.html\"",
        "5 read",
        "deliver: 3 of 3 messages are handed over",
    ] {
        assert!(mails[0].contains(part), "{part}\n{}", mails[0]);
    }
    bench.write("night.toml", job("nowhere.csv", "failure"));
    let failed = bench.run(&["run", "night.toml"]);
    assert!(failed.contains("code 1"), "{failed}");
    let mails = notices(&bench);
    let last = mails
        .iter()
        .find(|mail| mail.contains("Subject: night.toml: failed with code 1"));
    assert!(
        last.expect("a mail").contains("error: nowhere.csv"),
        "{mails:?}"
    );
    bench.write("night.toml", job("routes.csv", "failure"));
    bench.run(&["run", "night.toml"]);
    assert_eq!(notices(&bench).len(), 2);
    let wrong = [
        (
            "to = \"analyst@varnholm.example\"\n",
            "",
            "'to': it is missing",
        ),
        ("into", "onto", "'onto'"),
        (
            "into = \"notices\"",
            "channel = \"folder\"",
            "drafts, smtp or command",
        ),
    ];
    for (key, other, reason) in wrong {
        bench.write(
            "night.toml",
            job("routes.csv", "always").replace(key, other),
        );
        let refused = bench.run(&["run", "night.toml"]);
        assert!(
            refused.contains("code 2") && refused.contains(reason),
            "{refused}"
        );
    }
    assert_eq!(notices(&bench).len(), 2);
}
