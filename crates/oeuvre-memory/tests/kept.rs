//! The largest pieces of ordinary memory, without a limit: lists hold what was put into them, whatever of them is kept.

#![cfg(target_os = "linux")]

use proptest::prelude::*;
use std::sync::{Mutex, PoisonError};

#[global_allocator]
static MEMORY: oeuvre_memory::Memory = oeuvre_memory::Memory::new();

/// One test at a time: what is kept belongs to the process.
static ALONE: Mutex<()> = Mutex::new(());

/// What is done to one of some lists, in steps of 64 KiB.
#[derive(Clone, Debug)]
enum Step {
    Fill(usize, usize),
    Grow(usize, usize),
    Shrink(usize, usize),
    Zeros(usize, usize),
    Let(usize),
}

fn step() -> impl Strategy<Value = Step> {
    // On both sides of the size from which pieces are kept, and of large pages.
    let size = || prop_oneof![0usize..40, 60usize..68, 90usize..300];
    prop_oneof![
        2 => (0usize..5, size()).prop_map(|(list, n)| Step::Fill(list, n)),
        2 => (0usize..5, size()).prop_map(|(list, n)| Step::Grow(list, n)),
        1 => (0usize..5, size()).prop_map(|(list, n)| Step::Shrink(list, n)),
        1 => (0usize..5, size()).prop_map(|(list, n)| Step::Zeros(list, n)),
        2 => (0usize..5).prop_map(Step::Let),
    ]
}

/// Numbers in a list of so many steps.
fn numbers(steps: usize) -> usize {
    steps * (65_536 / 8)
}

/// The number that stands at a place of the list that was made last but so many.
fn number(made: u64, place: usize) -> u64 {
    made << 32 | place as u64
}

/// A list, by what it was made of: zeros where it is 0.
fn holds(list: &[u64], made: u64) -> bool {
    // One of each page and the ends.
    let places = (0..list.len()).step_by(509).chain(list.len().checked_sub(1));
    places.into_iter().all(|at| list[at] == if made == 0 { 0 } else { number(made, at) })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn lists_hold_what_was_put_into_them(steps in proptest::collection::vec(step(), 1..40)) {
        let _alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
        let mut lists: Vec<(u64, Vec<u64>)> = vec![(0, Vec::new()); 5];
        for (made, step) in (1u64..).zip(steps) {
            match step {
                Step::Fill(list, n) => {
                    lists[list] = (made, (0..numbers(n)).map(|at| number(made, at)).collect());
                }
                Step::Grow(list, n) => {
                    let (made, list) = &mut lists[list];
                    let (made, from) = (*made, list.len());
                    let value = move |at| if made == 0 { 0 } else { number(made, at) };
                    list.extend((from..from + numbers(n)).map(value));
                }
                Step::Shrink(list, n) => {
                    lists[list].1.truncate(numbers(n));
                    lists[list].1.shrink_to_fit();
                }
                Step::Zeros(list, n) => lists[list] = (0, vec![0; numbers(n)]),
                Step::Let(list) => lists[list] = (0, Vec::new()),
            }
            for (made, list) in &lists {
                prop_assert!(holds(list, *made));
            }
        }
    }
}

#[test]
fn many_threads_take_and_give_back_at_once() {
    let _alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
    std::thread::scope(|scope| {
        for seed in 1..4u64 {
            scope.spawn(move || {
                let mut lists: Vec<(u64, Vec<u64>)> = Vec::new();
                for round in 1..60u64 {
                    let made = seed << 20 | round;
                    let size = numbers(60 + (seed * 7919 * round % 200) as usize);
                    let mut list: Vec<u64> = Vec::new();
                    // Grows where it stands or moves.
                    (0..size).for_each(|at| list.push(number(made, at)));
                    lists.push((made, list));
                    if lists.len() > 3 {
                        let (made, gone) = lists.swap_remove((round % 3) as usize);
                        assert!(holds(&gone, made));
                    }
                }
                assert!(lists.iter().all(|(made, list)| holds(list, *made)));
            });
        }
    });
}
