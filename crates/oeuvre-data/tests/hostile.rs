//! Bytes of anything: a table or an error, never a crash. The corpus of the fuzzers, and what lies near it.

use oeuvre_data::{ReadOptions, open_bytes, settled};
use proptest::prelude::*;
use std::path::{Path, PathBuf};

fn corpus() -> Vec<(String, PathBuf)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus");
    let mut all = Vec::new();
    for target in ["csv", "json", "parquet", "arrow", "workbook", "sqlite"] {
        let files = std::fs::read_dir(folder.join(target)).unwrap();
        all.extend(files.map(|file| (target.to_owned(), file.unwrap().path())));
    }
    all.sort();
    assert!(all.len() > 10);
    all
}

/// Reads bytes as a file, in pieces that records cross; how many rows there are, where it can be read.
fn rows(target: &str, bytes: &[u8], piece_bytes: usize) -> Option<usize> {
    let options = ReadOptions { piece_bytes, ..ReadOptions::default() };
    let mut input = open_bytes(&format!("rows.{target}"), bytes.to_vec(), options).ok()?;
    let whole = settled(input.as_mut(), |input| input.rows_whole()).ok()?;
    Some(whole.1.len())
}

#[test]
fn what_the_fuzzers_found_stays_mended() {
    for (target, file) in corpus() {
        let bytes = std::fs::read(file).unwrap();
        assert_eq!(rows(&target, &bytes, 64), rows(&target, &bytes, 1 << 20));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn bytes_near_a_file_are_no_crash(
        which in any::<prop::sample::Index>(),
        changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..6),
        cut in prop::option::weighted(0.2, any::<prop::sample::Index>()),
    ) {
        let corpus = corpus();
        let (target, file) = which.get(&corpus);
        let mut bytes = std::fs::read(file).unwrap();
        for (at, byte) in changes {
            if !bytes.is_empty() {
                let at = at.index(bytes.len());
                bytes[at] = byte;
            }
        }
        if let Some(cut) = cut {
            bytes.truncate(cut.index(bytes.len().max(1)));
        }
        rows(target, &bytes, 64);
    }

    #[test]
    fn bytes_of_anything_are_no_crash(bytes in prop::collection::vec(any::<u8>(), 0..200), head in 0usize..6) {
        let heads: [&[u8]; 6] = [b"", b"PAR1", b"ARROW1\0\0", b"\xff\xff\xff\xff\x10\0\0\0", b"{\"a\":", b"[{"];
        rows("csv", &[heads[head], &bytes].concat(), 16);
    }
}
