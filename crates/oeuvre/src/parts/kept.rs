//! Parts that a report keeps: of each file and each table one, so that files that have not changed are not read again.
//!
//! A part is known by the file, by how it is read, by what is asked (with the values that are given, where it uses
//! them), by what the lookups hold, and by the version; it says how large the file was, when it was changed, and what
//! its bytes came to. Where size and time are the same nothing is read; where the time alone differs the bytes are
//! compared; else the part is made again.

use super::asks::Asks;
use super::file::{Part, VERSION, lookup_id};
use super::join::join;
use super::make::{Making, has_tally, make, plans};
use crate::failure::Failure;
use oeuvre_columns::{DataProblem, Kind, Source};
use oeuvre_core::{Error, Grid, Ledger, Plan, Request, SourceText};
use oeuvre_data::{ReadOptions, fingerprint, fingerprint_of_file, open};
use std::collections::{BTreeSet, HashMap};
use std::path::Path;
use std::time::UNIX_EPOCH;

/// The parts of some files in a folder.
pub(crate) struct KeptParts<'a> {
    folder: &'a Path,
    files: &'a [String],
    options: &'a ReadOptions,
    threads: usize,
}

/// What a table was made of parts.
pub(crate) struct OfKept {
    pub(crate) plan: Plan,
    pub(crate) grid: Grid,
    pub(crate) ledger: Ledger,
}

/// How a file looked.
#[derive(Clone, PartialEq, Eq)]
struct Seen {
    bytes: u64,
    /// When it was changed, in nanoseconds since 1970.
    changed: String,
}

impl<'a> KeptParts<'a> {
    /// The parts of some files, which are read as is said; `None` where not each is one that can be known again.
    pub(crate) fn of(
        folder: &'a Path,
        (files, options): (&'a [String], &'a ReadOptions),
        threads: usize,
    ) -> Option<KeptParts<'a>> {
        let are_known = files.iter().all(|file| Path::new(file).is_file());
        are_known.then_some(KeptParts { folder, files, options, threads })
    }

    /// Whether a request can be answered by parts.
    ///
    /// # Errors
    /// What is wrong with the request.
    pub(crate) fn serve(request: &Request, source: &dyn Source) -> Result<bool, Error> {
        Ok(!request.listing && has_tally(request, &plans(request, source)?))
    }

    /// The tables of some requests, and which files were read for them.
    ///
    /// # Errors
    /// What is wrong with the rows; parts that cannot be written.
    pub(crate) fn tables(
        &self,
        requests: &[&Request],
    ) -> Result<(Vec<OfKept>, BTreeSet<usize>), Failure> {
        let mut read = BTreeSet::new();
        let mut expected: Vec<(String, Kind)> = Vec::new();
        // Each time a column turns out to hold something wider, which it does only so often.
        let mut left = 64;
        loop {
            let mut all: Vec<Vec<(String, Part)>> = vec![Vec::new(); requests.len()];
            for place in 0..self.files.len() {
                let parts = self.of_file(place, requests, &expected, &mut read)?;
                for (of_request, part) in all.iter_mut().zip(parts) {
                    of_request.push((self.files[place].clone(), part));
                }
            }
            let wider = widest(all.iter().flatten().map(|(_, part)| part));
            let is_settled = all.iter().flatten().all(|(_, part)| fits(part, &wider));
            left -= 1;
            if !is_settled && left > 0 {
                expected = wider;
                continue;
            }
            let tables =
                requests.iter().zip(all).map(|(request, parts)| self.table(request, parts));
            return Ok((tables.collect::<Result<_, Error>>()?, read));
        }
    }

    /// The table of a request from its parts.
    fn table(&self, request: &Request, parts: Vec<(String, Part)>) -> Result<OfKept, Error> {
        let joined = join(parts, |_| Ok((*request).clone()), self.threads)?;
        let Some((mut plans, tally)) = joined.tally else {
            return Err(Error::request("a part that is kept has no states"));
        };
        let all: Vec<&Plan> = plans.iter().collect();
        let mut made = tally.finish(&all, &joined.rows, self.threads)?;
        let (grid, ledger) = made.remove(0);
        Ok(OfKept { plan: plans.remove(0), grid, ledger })
    }

    /// The parts of a file, for each request; those that lack, or are of narrower kinds than are expected, are made.
    fn of_file(
        &self,
        place: usize,
        requests: &[&Request],
        expected: &[(String, Kind)],
        read: &mut BTreeSet<usize>,
    ) -> Result<Vec<Part>, Failure> {
        let file = &self.files[place];
        let options = ReadOptions {
            of_many: self.files.len() > 1,
            expected: expected.to_vec(),
            ..self.options.of_file(place).clone()
        };
        let seen = seen(file)?;
        let mut out = Vec::new();
        let (mut input, mut hash) = (None, None);
        for request in requests {
            let key = key(file, &options, request);
            let path = self.folder.join(format!("{:032x}.oeu", fingerprint(key.as_bytes())));
            let known = known(&path, &key, file, &seen, &mut hash)?;
            if let Some(part) = known.filter(|part| fits(part, expected)) {
                out.push(numbered(part, place));
                continue;
            }
            read.insert(place);
            let input = match &mut input {
                Some(input) => input,
                none => none.insert(open(std::slice::from_ref(file), options.clone())?),
            };
            let hash = content(file, &mut hash)?;
            let kept = vec![
                ("key".to_owned(), vec![key]),
                ("seen".to_owned(), vec![seen.bytes.to_string(), seen.changed.clone(), hash]),
            ];
            let making = Making { asks: Asks(kept), request, place: None, threads: self.threads };
            let part = make(input.as_mut(), &making)?;
            std::fs::create_dir_all(self.folder)
                .map_err(|e| Failure::writing(&self.folder.display().to_string(), &e))?;
            part.write(&path)?;
            out.push(numbered(part, place));
        }
        Ok(out)
    }
}

/// A part of the file at a place: what is kept of the same file is the same, and stands at each of its places.
fn numbered(mut part: Part, place: usize) -> Part {
    part.asks = Asks::default();
    for leaf in &mut part.leaves {
        (leaf.place, leaf.id) = (Some(place as u64), place as u128);
    }
    part
}

fn unreadable(file: &str, error: &std::io::Error) -> Failure {
    let problem = DataProblem::in_file(file, format!("cannot be read: {error}"));
    Failure::Error(problem.into())
}

/// How a file looks now.
fn seen(file: &str) -> Result<Seen, Failure> {
    let about = std::fs::metadata(file).map_err(|e| unreadable(file, &e))?;
    let changed = about.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    let changed = changed.map_or(String::new(), |since| since.as_nanos().to_string());
    Ok(Seen { bytes: about.len(), changed })
}

/// What the bytes of a file come to, found out once.
fn content(file: &str, known: &mut Option<String>) -> Result<String, Failure> {
    if let Some(known) = known {
        return Ok(known.clone());
    }
    let bytes = std::fs::read(file).map_err(|e| unreadable(file, &e))?;
    Ok(known.insert(format!("{:032x}", fingerprint_of_file(&bytes))).clone())
}

/// The part that is kept under a path, where it is of the file as it is now.
fn known(
    path: &Path,
    key: &str,
    file: &str,
    seen: &Seen,
    hash: &mut Option<String>,
) -> Result<Option<Part>, Failure> {
    // One that is damaged, or of another version, is made again.
    let Ok(part) = Part::read(path) else { return Ok(None) };
    let of = |name: &str| part.asks.0.iter().find(|asked| asked.0 == name).map(|asked| &asked.1);
    let (Some([kept]), Some([bytes, changed, was])) =
        (of("key").map(Vec::as_slice), of("seen").map(Vec::as_slice))
    else {
        return Ok(None);
    };
    if kept != key || *bytes != seen.bytes.to_string() {
        return Ok(None);
    }
    let same = *changed == seen.changed || *was == content(file, hash)?;
    Ok(same.then_some(part))
}

/// What a part of a file is known by.
fn key(file: &str, options: &ReadOptions, request: &Request) -> String {
    let path = std::path::absolute(file).unwrap_or_else(|_| file.into());
    let reading = options.as_said();
    let mut texts = Vec::new();
    let mut say = |what: &str, text: &SourceText| texts.push(format!("{what} {}", said(text)));
    request.by.iter().for_each(|text| say("by", text));
    request.columns_by.iter().for_each(|text| say("columns-by", text));
    request.show.iter().for_each(|show| say("show", &show.calc));
    request.filters.iter().for_each(|text| say("where", text));
    request.lines_where.iter().for_each(|text| say("lines-where", text));
    request.sort.iter().for_each(|text| say("sort", text));
    request.every.iter().for_each(|text| say("every", text));
    // Named calculations that are used, by what is said so far or by each other.
    let mut used: Vec<bool> = vec![false; request.lets.len()];
    loop {
        let all = texts.join("\n");
        let next = (0..used.len()).find(|&at| !used[at] && names(&all, &request.lets[at].0));
        let Some(at) = next else { break };
        used[at] = true;
        texts.push(format!("let {} {}", request.lets[at].0, said(&request.lets[at].1)));
    }
    let lookups: Vec<String> =
        request.lookups.iter().map(|lookup| format!("{:032x}", lookup_id(lookup))).collect();
    let every = request.every_period;
    format!(
        "{VERSION}\n{}\n{reading}\n{}\n{}\n{every}",
        path.display(),
        texts.join("\n"),
        lookups.join(" ")
    )
}

/// Whether a text names something.
fn names(text: &str, name: &str) -> bool {
    text.match_indices(name).any(|(at, _)| {
        let is_word = |c: Option<char>| c.is_some_and(|c| c.is_alphanumeric() || c == '_');
        !is_word(text[..at].chars().next_back()) && !is_word(text[at + name.len()..].chars().next())
    })
}

/// A text with the values that are given in it.
fn said(text: &SourceText) -> String {
    let given = text.given.iter().flat_map(|given| given.iter());
    let used = given.filter(|(name, _)| names(&text.text, &format!("${name}")));
    let values: Vec<String> = used.map(|(name, value)| format!("${name} = {value}")).collect();
    format!("{} {}", text.text, values.join(", "))
}

/// The columns that are used, each as wide as its widest.
fn widest<'p>(all: impl Iterator<Item = &'p Part>) -> Vec<(String, Kind)> {
    let mut out: HashMap<&str, Kind> = HashMap::new();
    for (name, kind) in all.flat_map(used) {
        let known = out.entry(name).or_insert(kind);
        *known = oeuvre_data::wider_kind(*known, kind);
    }
    out.into_iter().map(|(name, kind)| (name.to_owned(), kind)).collect()
}

fn used(part: &Part) -> impl Iterator<Item = (&str, Kind)> {
    let is_used = |column: &&(String, Kind)| part.used.contains(&column.0);
    part.columns.iter().filter(is_used).map(|(name, kind)| (name.as_str(), *kind))
}

/// Whether the columns of a part can be taken together with those that are expected.
fn fits(part: &Part, expected: &[(String, Kind)]) -> bool {
    let wider = |name: &str| expected.iter().find(|known| known.0 == name).map(|known| known.1);
    used(part).all(|(name, kind)| {
        wider(name).is_none_or(|wider| oeuvre_core::wider(kind, wider) == Some(wider))
    })
}
