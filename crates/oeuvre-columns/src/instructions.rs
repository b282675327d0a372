//! Which instructions of the processor are used: asked for once here, for everything that is written for several.
//!
//! The program is built for the baseline of its architecture and picks at run time. No result depends on what is
//! picked; that it can be set serves the tests, which compare all.
//!
//! There is nothing for AVX-512: on the processors that were tried, its registers of 512 bits made everything slower by a
//! tenth, and instructions that gather took several times as long as single loads.

use crate::choices;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};

choices! {
    /// The newest instructions that may be used.
    #[derive(Default)]
    pub enum Instructions {
        #[default]
        Auto = "auto": "The newest that the processor has",
        Avx2 = "avx2": "Those with 256 bits, where it has them",
        Plain = "plain": "None but what every processor has",
    }
}

/// What the processor has and may use, the newest last.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Level {
    /// What every processor has.
    Plain,
    /// AVX2 with the bit manipulation instructions.
    Avx2,
}

/// Whether the whole process keeps to what every processor has.
static ONLY_PLAIN: AtomicBool = AtomicBool::new(false);

impl Instructions {
    /// Says once, for whatever asks for [`Instructions::Auto`], what the process may use: for who does not read what was
    /// set, such as writers.
    pub fn allow(self) {
        ONLY_PLAIN.store(self == Instructions::Plain, Relaxed);
    }

    /// The newest level that may be used and that this processor has.
    pub fn level(self) -> Level {
        let most = match self {
            Instructions::Auto if ONLY_PLAIN.load(Relaxed) => Level::Plain,
            Instructions::Auto | Instructions::Avx2 => Level::Avx2,
            Instructions::Plain => Level::Plain,
        };
        most.min(newest())
    }
}

/// The newest level that this processor has.
fn newest() -> Level {
    static NEWEST: OnceLock<Level> = OnceLock::new();
    *NEWEST.get_or_init(|| {
        #[cfg(target_arch = "x86_64")]
        if is_x86_feature_detected!("avx2")
            && is_x86_feature_detected!("bmi1")
            && is_x86_feature_detected!("bmi2")
            && is_x86_feature_detected!("lzcnt")
            && is_x86_feature_detected!("popcnt")
            && is_x86_feature_detected!("pclmulqdq")
        {
            return Level::Avx2;
        }
        Level::Plain
    })
}

/// All levels that this processor has, for tests that compare them.
pub fn levels() -> impl Iterator<Item = Level> + Clone {
    [Level::Plain, Level::Avx2].into_iter().filter(|level| *level <= newest())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("auto", Level::Avx2)]
    #[case("avx2", Level::Avx2)]
    #[case("plain", Level::Plain)]
    fn what_is_asked_for_is_used_as_far_as_it_is_there(#[case] name: &str, #[case] most: Level) {
        let asked: Instructions = name.parse().unwrap();
        assert_eq!(asked.level(), most.min(newest()));
        assert!(levels().any(|level| level == asked.level()));
    }
}
