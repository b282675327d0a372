//! The simple request on the same rows in other formats, against CSV in the same round.

use crate::{SIMPLE, median, run};
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

/// Prints how the formats compare.
pub(crate) fn report(program: &Path, dir: &Path, csv: &Path, rounds: usize) {
    let parquet = written(program, dir, csv, "parquet");
    let lines = written(program, dir, csv, "jsonl");
    let packed = packed(dir, csv);
    let size = |path: &Path| std::fs::metadata(path).map_or(0, |m| m.len()) as f64;
    let mut ratios: [Vec<f64>; 3] = Default::default();
    for round in 0..=rounds {
        let seconds = |file: &Path| run(program, file, &SIMPLE).as_secs_f64();
        let plain = seconds(csv);
        let of = [
            seconds(&parquet) / plain,
            (seconds(&lines) / size(&lines)) / (plain / size(csv)),
            seconds(&packed) / unpacked(&packed).as_secs_f64(),
        ];
        // The first round warms the cache.
        if round > 0 {
            ratios.iter_mut().zip(of).for_each(|(all, one)| all.push(one));
        }
    }
    let [parquet_time, lines_time, packed_time] = ratios.map(|all| median(all.into_iter()));
    println!(
        "Parquet: {parquet_time:.2} times the CSV's time (at most 1 wanted, a third aimed at); {:.1} MB of {:.0} are read, of the CSV all {:.0}",
        bytes_of(&parquet, &["route", "fare"]) / 1e6,
        size(&parquet) / 1e6,
        size(csv) / 1e6,
    );
    println!("JSON Lines: {lines_time:.2} times the CSV's time per byte (at most 2 wanted)");
    println!("gzip: {packed_time:.2} times unpacking alone (at most 1.15 wanted)");
}

/// The rows in another format, written by the program itself.
fn written(program: &Path, dir: &Path, csv: &Path, ending: &str) -> PathBuf {
    let file = dir.join(format!("bookings.{ending}"));
    if !file.exists() {
        let status = Command::new(program)
            .arg("detail")
            .arg(csv)
            .arg("--quiet")
            .arg("--to")
            .arg(&file)
            .status();
        assert!(status.is_ok_and(|s| s.success()), "{ending} could not be written");
    }
    file
}

/// The bytes of some columns in a Parquet file.
fn bytes_of(file: &Path, columns: &[&str]) -> f64 {
    use parquet::file::reader::{FileReader, SerializedFileReader};
    let reader = SerializedFileReader::new(File::open(file).expect("it was just written"));
    let reader = reader.expect("it was just written");
    let groups = reader.metadata().row_groups().iter();
    let of_columns = groups.flat_map(|group| group.columns());
    let wanted = of_columns.filter(|c| columns.contains(&c.column_path().string().as_str()));
    wanted.map(|c| c.compressed_size() as f64).sum()
}

/// The rows packed with gzip.
fn packed(dir: &Path, csv: &Path) -> PathBuf {
    let file = dir.join("bookings.csv.gz");
    if !file.exists() {
        let out = File::create(&file).expect("the temporary folder can be written");
        let mut encoder = flate2::write::GzEncoder::new(out, flate2::Compression::fast());
        let mut rows = File::open(csv).expect("the rows are there");
        std::io::copy(&mut rows, &mut encoder).expect("the rows can be packed");
        encoder.finish().expect("the rows can be packed");
    }
    file
}

/// Unpacking alone, with the library that the program uses.
fn unpacked(file: &Path) -> Duration {
    let started = Instant::now();
    let rows = BufReader::with_capacity(256 << 10, File::open(file).expect("it was just written"));
    let mut decoder = flate2::bufread::MultiGzDecoder::new(rows);
    let mut buffer = vec![0; 256 << 10];
    while decoder.read(&mut buffer).expect("it was just written") > 0 {}
    started.elapsed()
}
