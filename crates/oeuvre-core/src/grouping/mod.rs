//! Rows in groups: the codes of their keys, the states of their aggregates, and results at fewer keys.

mod codes;
mod fill;
mod key_sets;
mod rollup;
mod second_pass;
mod states;

pub(crate) use codes::Codes;
pub(crate) use fill::fill;
pub(crate) use key_sets::{
    Depths, KeySet, Numbering, by_periods, in_time, keys_of, keys_of_level, period_codes,
};
pub(crate) use rollup::{Members, Rollup, of_no_rows, roll_up};
pub(crate) use second_pass::{SecondPassStates, second_pass};
pub(crate) use states::{Gathered, GroupStates, gather, gather_one};
