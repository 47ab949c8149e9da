//! The last part of a run whose outputs are compressed: each is packed when it is complete.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use std::path::{Path, PathBuf};

use super::consume::Consumer;
use super::documents::{Counted, WrittenDocument};
use super::keep::Keep;
use super::plan::RunPlan;
use super::produce::Produced;
use super::{Context, Error};
use crate::output::OutputError;
use numerant_data::source::Compression;

/// Bytes that are read at a time.
const PIECE: usize = 1 << 17;

/// Packs all outputs, several at the same time; those in `written` already are packed from there.
pub(super) fn write(
    plan: &RunPlan,
    consumer: &Consumer<'_>,
    produced: &Produced,
    written: &mut HashMap<usize, WrittenDocument>,
    compression: Compression,
    keep: Keep<'_>,
    context: &Context,
) -> Result<(), Error> {
    let tasks: Vec<(usize, &str, PathBuf)> = produced
        .paths
        .iter()
        .enumerate()
        .filter_map(|(output, path)| {
            let staged = match written.get(&output) {
                Some(written) => written.staged.clone(),
                None => consumer.path(output),
            };
            Some((output, path.as_deref()?, staged))
        })
        .collect();
    let packed = plan.workers.try_map(&tasks, |(output, path, staged)| {
        context.check_cancelled()?;
        let packed = pack(*output, path, staged, compression, keep)?;
        Ok::<_, Error>((*output, packed))
    })?;
    written.extend(packed);
    Ok(())
}

fn pack(
    output: usize,
    path: &str,
    staged: &Path,
    compression: Compression,
    keep: Keep<'_>,
) -> Result<WrittenDocument, Error> {
    let failed =
        |cause: io::Error| Error::from(OutputError::new("writing", Path::new(path), cause));
    let packed = keep.stage.dir().join(format!("packed-{output}"));
    let mut input = File::open(staged).map_err(failed)?;
    let file = keep.stage.disk().create(&packed).map_err(failed)?;
    let out = Counted::new(BufWriter::with_capacity(PIECE, file), keep.digest);
    let out = match compression {
        Compression::Gzip => {
            let level = flate2::Compression::default();
            let mut encoder = flate2::write::GzEncoder::new(out, level);
            copy(&mut input, &mut encoder).map_err(failed)?;
            encoder.finish().map_err(failed)?
        }
        Compression::Zstd => {
            let mut encoder = zstd::Encoder::new(out, 0).map_err(failed)?;
            copy(&mut input, &mut encoder).map_err(failed)?;
            encoder.finish().map_err(failed)?
        }
    };
    // The stage is removed as a whole later.
    let _ = keep.stage.disk().remove(staged);
    out.into_written(packed, keep.sync).map_err(failed)
}

fn copy(input: &mut File, out: &mut impl Write) -> io::Result<()> {
    let mut piece = vec![0; PIECE];
    loop {
        match input.read(&mut piece)? {
            0 => return Ok(()),
            read => out.write_all(&piece[..read])?,
        }
    }
}
