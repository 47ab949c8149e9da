use std::path::Path;
use std::sync::Arc;

use super::*;
use crate::Unobserved;
use numerant_data::disk::Disk;
use numerant_data::source::SourcePath;

fn context() -> Context {
    Context {
        now: jiff::civil::date(2026, 3, 5).at(14, 20, 0, 0),
        cancel: Arc::default(),
        observer: Arc::new(Unobserved),
        open_files: 64,
        processors: 4,
        temporary: std::env::temp_dir(),
        disk: Disk::default(),
        own_files: Vec::new(),
        commits: Arc::default(),
    }
}

fn job(sources: &[&str], name: &str) -> Job {
    Job {
        sources: sources
            .iter()
            .map(|name| SourcePath::File(PathBuf::from(name)))
            .collect(),
        name: Some(name.parse().expect("a template")),
        out: (sources.len() > 1).then(|| PathBuf::from("parts")),
        ..Job::default()
    }
}

fn resolved(job: &Job) -> RunPlan {
    RunPlan::resolve(job, &context(), &Shared::default()).expect("a plan")
}

#[test]
fn names_decide_which_records_an_output_holds() {
    let sources = ["calls.csv", "tides.csv"];
    for (name, scope) in [
        ("all.csv", OutputScope::AllSources),
        ("{quay}.csv", OutputScope::AllSources),
        ("{.stem}.csv", OutputScope::OneSource),
        ("{.folder}/{quay}.csv", OutputScope::OneSource),
    ] {
        assert_eq!(resolved(&job(&sources, name)).scope, scope, "{name}");
    }
}

#[test]
fn a_plan_knows_its_outputs_before_a_source_is_there() {
    let plan = resolved(&job(&["calls.csv"], "{quay}.xlsx"));
    assert_eq!(plan.out, Path::new("calls"));
    assert_eq!(
        (plan.extension.as_str(), plan.format.name()),
        ("xlsx", "Office Open XML workbook")
    );
    assert_eq!(plan.keys.len(), 1);
    assert_eq!(plan.rows_of_a_sheet, Some(1_048_575));
    assert!(!plan.reads_twice && !plan.has_digests && !plan.replaces);
    assert!(matches!(plan.scan, SchemaScan::Sample(_)));
}

#[test]
fn what_people_stated_stays_beside_what_holds() {
    let stated = Job {
        per_sheet: true,
        ..job(&["port.xlsx"], "{.sheet}.xlsx")
    };
    let plan = resolved(&stated);
    assert_eq!(plan.stated, stated);
    assert!(plan.keeps_sheets && plan.refuses_uncomputed);
    assert_eq!(plan.job.read.ragged, Ragged::Pad);
    assert_eq!(plan.job.read.on_uncomputed, Uncomputed::Blank);
    assert!(plan.job.read.context.may_be_empty);
}

#[test]
fn a_run_beyond_its_sample_is_done_again_with_a_full_scan_and_only_once() {
    let passes = std::cell::Cell::new(0);
    let done = with_plan(
        &job(&["calls.json"], "all.csv"),
        &context(),
        &Shared::default(),
        |plan| {
            passes.set(passes.get() + 1);
            assert!(!plan.scan.is_outgrown(), "a new plan has a new sample");
            let SchemaScan::Sample(sample) = &plan.scan else {
                return Ok(Pass::Complete(passes.get()));
            };
            sample.outgrow();
            assert!(plan.scan.is_outgrown());
            Ok(Pass::OutgrewSample)
        },
    );
    assert_eq!(done.expect("a full scan"), 2);
}
