//! How many values are missing, which is asked of every batch: without a branch, with AVX2 where the processor has it, as the
//! baseline does not compare 64 bits at once.

use crate::instructions::{Instructions, Level};

/// So many values are looked at before it is asked whether one was found.
const STEP: usize = 256;

/// Of how many values that is so.
pub(super) fn count<T: Copy>(values: &[T], is_it: impl Fn(T) -> bool) -> usize {
    count_with(Instructions::Auto.level(), values, is_it)
}

#[allow(unsafe_code)]
fn count_with<T: Copy>(level: Level, values: &[T], is_it: impl Fn(T) -> bool) -> usize {
    #[cfg(target_arch = "x86_64")]
    {
        #[target_feature(enable = "avx2")]
        fn newer<T: Copy>(values: &[T], is_it: impl Fn(T) -> bool) -> usize {
            counted(values, is_it)
        }
        if level >= Level::Avx2 {
            // SAFETY: a level is only given where the processor has its features.
            return unsafe { newer(values, is_it) };
        }
    }
    counted(values, is_it)
}

#[inline(always)]
fn counted<T: Copy>(values: &[T], is_it: impl Fn(T) -> bool) -> usize {
    values.iter().map(|&value| usize::from(is_it(value))).sum()
}

/// Whether that is so of any of the values.
pub(super) fn is_any<T: Copy>(values: &[T], is_it: impl Fn(T) -> bool + Copy) -> bool {
    values.chunks(STEP).any(|step| count(step, is_it) > 0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::instructions::levels;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn as_many_are_found_with_whatever_instructions(
            values in proptest::collection::vec(prop_oneof![9 => Just(1i64), 1 => Just(i64::MIN)], 0..600),
        ) {
            let expected = values.iter().filter(|v| **v == i64::MIN).count();
            for level in levels() {
                prop_assert_eq!(count_with(level, &values, |v| v == i64::MIN), expected);
            }
            prop_assert_eq!(is_any(&values, |v| v == i64::MIN), expected > 0);
        }
    }
}
