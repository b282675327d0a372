#![no_main]
//! Bytes as a file of this format: whatever they are, reading them is a table or an error.

use libfuzzer_sys::fuzz_target;
use oeuvre_data::{ReadOptions, open_bytes, settled};

fuzz_target!(|bytes: &[u8]| {
    // Small pieces, so that records cross them.
    let options = ReadOptions { piece_bytes: 64, ..ReadOptions::default() };
    if let Ok(mut rows) = open_bytes("rows.sqlite", bytes.to_vec(), options) {
        let _ = settled(rows.as_mut(), |rows| rows.rows_whole());
    }
});
