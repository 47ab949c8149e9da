//! Checks of a job that need nothing to be read.

use std::collections::HashSet;

use super::{Job, JobError, LikeSourceConflict, Overflow};
use crate::output::ExistingPolicy;
use numerant_data::value::{DecimalMark, NumberFormat};
use numerant_format::sheet::Types;
use numerant_format::{DocumentLanguage, Format, FormatOption, Ragged, Side};
use numerant_formats::{FORMATS, format_read, options};
use numerant_naming::{ClashPolicy, RunField, Template};
use numerant_steps::{CASE_COLUMN, OnError, Step, Unmatched};
use numerant_trees::MAX_DEPTH;

impl Job {
    /// Checks what can be checked without reading.
    ///
    /// # Errors
    ///
    /// The first thing that is wrong.
    pub fn check(&self) -> Result<(), JobError> {
        let Some(first) = self.sources.first() else {
            return Err(JobError::NoSource);
        };
        let mut known = HashSet::new();
        for source in &self.sources {
            if !known.insert(source) {
                return Err(JobError::SameSource(source.clone()));
            }
        }
        let name_keys = self.name.as_ref().map_or(0, |name| name.keys().len());
        let divisions = self.divisions();
        let sheet_keys = self.sheet.as_ref().map_or(0, |sheet| sheet.keys().len());
        let keys = name_keys + sheet_keys + self.by.len() + self.case.len();
        // A name that holds something of the source, or nothing but text, is enough.
        let whole = keys == 0 && divisions.is_empty() && self.name.is_none();
        if whole && !self.is_by_sheet() && !(self.batch && self.to.is_some()) {
            return Err(JobError::NothingToSplitBy);
        }
        self.check_divisions(&divisions)?;
        let (_, format) = self.format(first)?;
        if format.capabilities().workbook.is_none() {
            if self.sheet.is_some() {
                return Err(JobError::SheetsOfText("sheet"));
            }
            if self.overflow != Overflow::Refuse {
                return Err(JobError::SheetsOfText("overflow"));
            }
        }
        let keeps_look = self.like_source || self.fill.template.is_some();
        self.pages.check(format, keeps_look)?;
        if self.overflow != Overflow::Refuse
            && let [division, ..] = *divisions
        {
            return Err(JobError::NotTogether {
                first: division,
                second: "overflow",
            });
        }
        if let (Some(room), Some(rows)) = (format.capabilities().workbook, self.rows)
            && rows >= room.rows
        {
            return Err(JobError::RowsOfSheet {
                rows,
                most: room.rows - 1,
            });
        }
        self.check_form(format)?;
        let template = self.template(first);
        if let Some(compression) = template
            .compression()
            .filter(|_| format.capabilities().workbook.is_some())
        {
            return Err(JobError::CompressedBook(template, compression.ending()));
        }
        if format.capabilities().workbook.is_some() && self.max_size.is_some() {
            return Err(JobError::SizeOfWorkbook);
        }
        if let Some(from) = &self.read.from
            && format_read(from).is_none()
        {
            return Err(JobError::UnknownFormat(from.clone()));
        }
        self.check_pack()?;
        for (is, with) in [
            (self.pack.is_some(), "pack"),
            (self.existing == ExistingPolicy::Clear, "existing"),
        ] {
            if is && self.allow_absolute {
                return Err(JobError::AbsoluteWith { with });
            }
        }
        self.check_like_source(format)?;
        self.check_fill(format)?;
        if self.sources.len() > 1 && self.out.is_none() && self.pack.is_none() && !self.batch {
            return Err(JobError::NoOut);
        }
        if self.existing == ExistingPolicy::Clear {
            if self.batch {
                return Err(JobError::ClearOfBatch);
            }
            if self.ledger.is_none() {
                return Err(JobError::ClearWithoutLedger);
            }
        }
        if self.existing == ExistingPolicy::Newer && !self.batch {
            return Err(JobError::NewerOfBatch);
        }
        if self.rejects.is_some() && !self.rejects_any() {
            return Err(JobError::RejectsWithoutPolicy);
        }
        let point = |format: &NumberFormat| format.mark() == DecimalMark::Point;
        if self.decimal_comma && self.number_format.as_ref().is_some_and(point) {
            return Err(JobError::DecimalMarks);
        }
        let side_files = [&self.ledger, &self.rejects, &self.page];
        let side_files: Vec<_> = side_files.into_iter().flatten().collect();
        let distinct: HashSet<_> = side_files.iter().collect();
        if distinct.len() < side_files.len() {
            return Err(JobError::SameSideFile);
        }
        if self.memory.0 < 1_000_000 {
            return Err(JobError::TooLittleMemory);
        }
        if self.max_outputs == 0 || self.max_outputs >= u64::from(u32::MAX) {
            return Err(JobError::MaxOutputs);
        }
        if self.blank.trim().is_empty() {
            return Err(JobError::Blank);
        }
        Ok(())
    }

    /// Rows of one sheet go whole and in their order into workbooks.
    fn check_like_source(&self, format: &'static dyn Format) -> Result<(), JobError> {
        if !self.like_source {
            return Ok(());
        }
        let changes = |step: &Step| matches!(step, Step::Tidy | Step::KeepType(_));
        for (is, why) in [
            (self.sources.len() > 1, LikeSourceConflict::Files),
            (self.read.read_sheet.len() > 1, LikeSourceConflict::Sheets),
            (self.read.no_header, LikeSourceConflict::NoHeader),
            (
                self.is_by_sheet() || self.overflow != Overflow::Refuse,
                LikeSourceConflict::SheetsOfOutputs,
            ),
            (self.steps.iter().any(changes), LikeSourceConflict::Steps),
            (self.write.types != Types::Auto, LikeSourceConflict::Types),
            (!format.capabilities().cuts_rows, LikeSourceConflict::Format),
        ] {
            if is {
                return Err(JobError::LikeSource(why));
            }
        }
        Ok(())
    }

    /// What is put into copies of a template has a place of its own, and each record a table.
    fn check_fill(&self, format: &'static dyn Format) -> Result<(), JobError> {
        let fill = &self.fill;
        if fill.template.is_none() {
            return Ok(());
        }
        if fill.put.is_empty() {
            return Err(JobError::NothingToPut);
        }
        for (is, what) in [
            (
                !format.capabilities().fills_templates,
                "a name that does not end in .xlsx, .xlsm or .pdf",
            ),
            (
                !self.divisions().is_empty(),
                "a division ('rows', 'parts', 'max-size' or 'each')",
            ),
            (self.sheet.is_some(), "'sheet'"),
            (self.overflow != Overflow::Refuse, "'overflow'"),
            (
                self.is_by_sheet() || self.like_source,
                "an output for each sheet, or 'like-source'",
            ),
            (
                self.clash != ClashPolicy::Refuse && self.clash != ClashPolicy::Number,
                "this 'clash'",
            ),
            (
                self.name
                    .as_ref()
                    .is_some_and(|name| name.names(RunField::Rows)),
                "{.rows} in the name",
            ),
        ] {
            if is {
                return Err(JobError::NotForFill(what));
            }
        }
        for (number, put) in fill.put.iter().enumerate() {
            if fill.put[..number]
                .iter()
                .any(|known| known.place == put.place)
            {
                return Err(JobError::PutTwice(put.place.to_string()));
            }
        }
        let tables: Vec<_> = fill.tables().collect();
        let place = |number: usize| fill.put[number].place.to_string();
        if tables.len() > 1
            && let Some((number, _)) = tables.iter().find(|(_, of)| of.is_none())
        {
            return Err(JobError::WhichTable(place(*number)));
        }
        if self.case.is_empty() {
            return Ok(());
        }
        let cases = self.case.iter().map(|case| &case.name).chain(&self.others);
        let cases: Vec<&String> = cases.collect();
        let named: Vec<(usize, String)> = tables
            .iter()
            .filter_map(|(number, of)| Some((*number, of.as_ref()?.to_string())))
            .collect();
        for (number, case) in &named {
            if !cases.contains(&case) {
                let (place, case) = (place(*number), case.clone());
                return Err(JobError::NoSuchCase { place, case });
            }
        }
        let open = |case: &&&String| !named.iter().any(|(_, name)| name == **case);
        match cases.iter().find(open).filter(|_| !named.is_empty()) {
            Some(case) => Err(JobError::CaseWithoutTable((*case).clone())),
            None => Ok(()),
        }
    }

    /// An archive takes the place of an output folder, and is new as a whole.
    fn check_pack(&self) -> Result<(), JobError> {
        let Some(pack) = &self.pack else {
            return Ok(());
        };
        if self.out.is_some() {
            return Err(JobError::NotTogether {
                first: "pack",
                second: "out",
            });
        }
        if !matches!(
            self.existing,
            ExistingPolicy::Refuse | ExistingPolicy::Replace
        ) {
            return Err(JobError::PackAsItIs);
        }
        let named = pack.extension().unwrap_or_default();
        if !named.eq_ignore_ascii_case("zip") {
            return Err(JobError::PackName(pack.clone()));
        }
        for side_file in [&self.ledger, &self.rejects, &self.page] {
            if side_file.as_ref() == Some(pack) {
                return Err(JobError::SameSideFile);
            }
        }
        Ok(())
    }

    /// Options for documents go with outputs that are such.
    fn check_form(&self, format: &'static dyn Format) -> Result<(), JobError> {
        let write = &self.write;
        let language = format.capabilities().language;
        let is_xml = language == Some(DocumentLanguage::Xml);
        let is_json = language == Some(DocumentLanguage::Json);
        let only_for = |key: &'static str, formats: String| JobError::OnlyFor {
            key,
            formats,
            format: format.name(),
        };
        for (is_set, key) in [
            (write.shape.is_some(), "shape"),
            (write.schema.is_some(), "schema"),
        ] {
            if is_set && !is_xml && !is_json {
                return Err(only_for(key, "JSON and XML".to_owned()));
            }
        }
        let own = format.options();
        for option in options(Side::Writing) {
            let has = |own: &[FormatOption]| own.iter().any(|own| own.is(option.name, option.side));
            if write.of_formats.is_set(option.name) && !has(own) {
                let with = FORMATS.iter().filter(|format| has(format.options()));
                let named: Vec<&str> = with.map(|format| format.name()).collect();
                return Err(only_for(option.name, named.join(", ")));
            }
        }
        if let Some(encoding) = write
            .out_encoding
            .filter(|encoding| is_json && !encoding.is_utf8())
        {
            return Err(JobError::JsonEncoding(encoding.name()));
        }
        if self
            .read
            .depth
            .is_some_and(|depth| depth == 0 || depth > MAX_DEPTH)
        {
            return Err(JobError::Depth);
        }
        Ok(())
    }

    /// The keys of what cuts outputs, as far as it is said.
    pub(super) fn divisions(&self) -> Vec<&'static str> {
        [
            (self.rows.is_some(), "rows"),
            (self.parts.is_some(), "parts"),
            (self.max_size.is_some(), "max-size"),
            (self.each, "each"),
        ]
        .into_iter()
        .filter_map(|(said, key)| said.then_some(key))
        .collect()
    }

    fn check_divisions(&self, divisions: &[&'static str]) -> Result<(), JobError> {
        if let [first, second, ..] = *divisions {
            return Err(JobError::NotTogether { first, second });
        }
        if self.rows == Some(0) {
            return Err(JobError::Nothing("rows"));
        }
        if self.parts == Some(0) {
            return Err(JobError::Nothing("parts"));
        }
        if self.max_size == Some(numerant_data::value::Size(0)) {
            return Err(JobError::Nothing("max-size"));
        }
        if self.case.is_empty() {
            if self.others.is_some() {
                return Err(JobError::OthersWithoutCase);
            }
            let names = self.name.iter().chain(&self.sheet);
            let names = names.chain(self.pages.templates());
            let named = |name: &&Template| name.keys().iter().any(|key| key.column == CASE_COLUMN);
            if let Some(name) = names.into_iter().find(named) {
                return Err(JobError::NoCase(name.clone()));
            }
        }
        let names_rows = |name: &Template| name.names(RunField::Rows);
        let decided = match self.clash {
            ClashPolicy::First => Some("first"),
            ClashPolicy::Last => Some("last"),
            ClashPolicy::Together => Some("together"),
            ClashPolicy::Refuse | ClashPolicy::Number => None,
        };
        if let Some(policy) = decided
            && self.name.as_ref().is_some_and(names_rows)
        {
            return Err(JobError::ClashWithRows(policy));
        }
        for (place, column) in self.total.iter().enumerate() {
            if self.total[..place].contains(column) {
                return Err(JobError::TotalTwice(column.clone()));
            }
        }
        Ok(())
    }

    /// Whether any record can be rejected.
    pub(super) fn rejects_any(&self) -> bool {
        let by_lookup = |step: &Step| match step {
            Step::Lookup(lookup) => lookup.unmatched == Unmatched::Reject,
            _ => false,
        };
        self.read.ragged == Ragged::Reject
            || self.on_error == OnError::Reject
            || self.steps.iter().any(by_lookup)
    }
}

#[cfg(test)]
mod tests {
    use std::path::PathBuf;

    use super::*;
    use numerant_steps::Case;

    fn job(source: &str) -> Job {
        Job {
            sources: vec![PathBuf::from(source).into()],
            ..Job::default()
        }
    }

    #[test]
    fn what_is_wrong_shows_before_anything_is_read() {
        let by = |by: &str| numerant_naming::parse_keys(by).expect(by);
        let name = |name: &str| Some(name.parse::<Template>().expect(name));
        assert_eq!(Job::default().check(), Err(JobError::NoSource));
        assert_eq!(job("calls.csv").check(), Err(JobError::NothingToSplitBy));
        let split = Job {
            by: by("quay"),
            ..job("calls.csv")
        };
        assert_eq!(split.check(), Ok(()));
        let named = |text: &str| Job {
            name: name(text),
            ..split.clone()
        };
        assert!(matches!(
            named("{quay}").check(),
            Err(JobError::NoExtension(_))
        ));
        let unknown = named("{quay}.doc").check();
        assert_eq!(unknown, Err(JobError::UnknownExtension("doc".into())));
        assert_eq!(
            named("{.stem}.csv").check(),
            Ok(()),
            "the clash shows when it is read"
        );
        let two = vec![PathBuf::from("a.csv").into(), PathBuf::from("b.csv").into()];
        assert_eq!(
            Job {
                sources: two,
                ..split.clone()
            }
            .check(),
            Err(JobError::NoOut)
        );
        let twice = vec![PathBuf::from("a.csv").into(), PathBuf::from("a.csv").into()];
        assert!(matches!(
            Job {
                sources: twice,
                ..split.clone()
            }
            .check(),
            Err(JobError::SameSource(_))
        ));
        let rejects = Job {
            rejects: Some("r.csv".into()),
            ..split
        };
        assert_eq!(rejects.check(), Err(JobError::RejectsWithoutPolicy));
    }

    #[test]
    fn ways_to_split_that_do_not_go_together() {
        let rows = Job {
            rows: Some(5),
            ..job("calls.csv")
        };
        assert_eq!(rows.check(), Ok(()), "there is something to split by");
        let both = Job {
            each: true,
            ..rows.clone()
        };
        let two = JobError::NotTogether {
            first: "rows",
            second: "each",
        };
        assert_eq!(both.check(), Err(two));
        let none = Job {
            rows: Some(0),
            ..rows.clone()
        };
        assert_eq!(none.check(), Err(JobError::Nothing("rows")));
        let rest = Job {
            others: Some("others".into()),
            ..rows.clone()
        };
        assert_eq!(rest.check(), Err(JobError::OthersWithoutCase));
        let named = |name: &str, clash| Job {
            name: Some(name.parse().expect(name)),
            clash,
            ..rows.clone()
        };
        let case = named("{.case}.csv", ClashPolicy::Refuse).check();
        assert!(matches!(case, Err(JobError::NoCase(_))));
        for (clash, fits) in [
            (ClashPolicy::Refuse, true),
            (ClashPolicy::Number, true),
            (ClashPolicy::First, false),
            (ClashPolicy::Last, false),
            (ClashPolicy::Together, false),
        ] {
            let check = named("{.rows}.csv", clash).check();
            assert_eq!(check.is_ok(), fits, "{clash:?}");
        }
        let twice = Job {
            total: vec!["dues".into(), "dues".into()],
            ..rows.clone()
        };
        assert_eq!(twice.check(), Err(JobError::TotalTwice("dues".into())));
        let rejects = Job {
            rejects: Some("r.csv".into()),
            on_error: OnError::Reject,
            ..rows
        };
        assert_eq!(rejects.check(), Ok(()));
    }

    #[test]
    fn outputs_are_named_after_what_tells_them_apart() {
        let by = numerant_naming::parse_keys("quay").expect("a key");
        let case = Case {
            name: "dear".into(),
            when: "dues > 5".parse().expect("a condition"),
        };
        let template = |job: Job| job.template(&job.sources[0]).to_string();
        let base = job("in/calls.tsv");
        let rows = Job {
            rows: Some(5),
            ..base.clone()
        };
        assert_eq!(template(rows.clone()), "{.stem}-{.n:03}.tsv");
        let within = Job {
            by: by.clone(),
            ..rows
        };
        assert_eq!(template(within), "{quay}-{.n:03}.tsv");
        let each = Job {
            each: true,
            ..base.clone()
        };
        assert_eq!(template(each), "{.stem}-{.n:05}.tsv");
        let cases = Job {
            by,
            case: vec![case],
            ..base
        };
        assert_eq!(template(cases.clone()), "{quay}_{.case}.tsv");
        let keys = cases.keys(&cases.template(&cases.sources[0]));
        assert_eq!(keys.len(), 2, "the case is a key as well");
    }

    #[test]
    fn a_name_is_made_of_the_keys() {
        let by = numerant_naming::parse_keys("quay,arrived:month,\"a}:b\"").expect("keys");
        let split = Job {
            by,
            ..job("in/calls.tsv.gz")
        };
        let template = split.template(&split.sources[0]);
        assert_eq!(
            template.to_string(),
            "{quay}_{arrived:month}_{\"a}:b\"}.tsv"
        );
        assert_eq!(split.keys(&template), split.by);
        let odd = Job {
            by: split.by.clone(),
            ..job("calls.dat")
        };
        assert_eq!(odd.format(&odd.sources[0]).expect("csv").0, "csv");
    }

    #[test]
    fn a_job_is_the_same_as_text() {
        let split = Job {
            by: numerant_naming::parse_keys("quay,arrived:month").expect("keys"),
            out: Some("parts".into()),
            date_format: vec!["%d/%m/%Y".parse().expect("a format")],
            ..job("calls.csv")
        };
        let text = serde_json::to_string(&split).expect("serialised");
        assert_eq!(serde_json::from_str::<Job>(&text).expect("parsed"), split);
    }
}
