//! What the fuzz targets share: a file of some bytes is looked at and converted. None may panic or hang, and a run
//! that is done has books that balance.

use std::io::{Cursor, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use numerant_data::disk::Disk;
use numerant_engine::{Context, Unobserved, inspect, run};
use numerant_engine::job::Job;
use numerant_engine::output::ExistingPolicy;
use numerant_data::value::Size;
use zip::write::SimpleFileOptions;

fn folder() -> PathBuf {
    let memory = Path::new("/dev/shm");
    let base = if memory.is_dir() { memory.to_owned() } else { std::env::temp_dir() };
    let folder = base.join(format!("numerant-fuzz-{}", std::process::id()));
    std::fs::create_dir_all(&folder).expect("a folder");
    folder
}

fn context(folder: &Path) -> Context {
    Context {
        now: jiff::civil::date(2026, 3, 5).at(14, 20, 5, 0),
        cancel: Arc::new(AtomicBool::new(false)),
        observer: Arc::new(Unobserved),
        open_files: 30,
        processors: 1,
        temporary: folder.to_owned(),
        disk: Disk::default(),
        own_files: Vec::new(),
        commits: Arc::default(),
    }
}

fn job(folder: &Path, source: PathBuf, name: &str) -> Job {
    Job {
        sources: vec![source.into()],
        name: name.parse().ok(),
        out: Some(folder.join("out")),
        existing: ExistingPolicy::Replace,
        memory: Size(16_000_000),
        jobs: 1,
        ..Job::default()
    }
}

/// Looks at a file with this extension and these bytes, and converts it to delimited text.
pub fn read(extension: &str, data: &[u8]) {
    let folder = folder();
    let source = folder.join(format!("input.{extension}"));
    std::fs::write(&source, data).expect("written");
    let job = job(&folder, source.clone(), "a.csv");
    let _ = inspect(&source.into(), &job, 3, &context(&folder));
    if let Ok(summary) = run(&job, &context(&folder)) {
        assert!(summary.ledger.balanced);
    }
}

/// Reads a package in which one part has these bytes.
pub fn read_part(extension: &str, package: &[u8], part: &str, data: &[u8]) {
    let mut archive = zip::ZipArchive::new(Cursor::new(package)).expect("an archive");
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for place in 0..archive.len() {
        let name = archive.name_for_index(place).and_then(Result::ok);
        let Some(name) = name.map(|name| name.into_owned()) else {
            continue;
        };
        if name == part {
            zip.start_file(name, SimpleFileOptions::default())
                .expect("begun");
            zip.write_all(data).expect("written");
        } else {
            let part = archive.by_index_raw(place).expect("a part");
            zip.raw_copy_file(part).expect("copied");
        }
    }
    read(extension, &zip.finish().expect("finished").into_inner());
}

/// Writes a table in a shape of these bytes.
pub fn shape(extension: &str, data: &[u8]) {
    let folder = folder();
    let (source, shape) = (
        folder.join("table.csv"),
        folder.join(format!("shape.{extension}")),
    );
    std::fs::write(&source, "id,quay,dues\n1,North,1.50\n2,South,2\n").expect("written");
    std::fs::write(&shape, data).expect("written");
    let mut job = job(&folder, source, &format!("a.{extension}"));
    job.write.shape = Some(shape);
    if let Ok(summary) = run(&job, &context(&folder)) {
        assert!(summary.ledger.balanced);
    }
}

/// Reads a record of ISO 2709 whose one value has these bytes in MARC-8.
pub fn marc8(data: &[u8]) {
    let data = &data[..data.len().min(9000)];
    let value: Vec<u8> = data
        .iter()
        .map(|byte| {
            if (0x1d..=0x1f).contains(byte) {
                b' '
            } else {
                *byte
            }
        })
        .collect();
    let field = [b"  \x1fa".as_slice(), &value, b"\x1e"].concat();
    let head = format!(
        "{:05}nam  2200037 a 4500245{:04}00000\u{1e}",
        38 + field.len(),
        field.len()
    );
    read("mrc", &[head.as_bytes(), &field, b"\x1d"].concat());
}
