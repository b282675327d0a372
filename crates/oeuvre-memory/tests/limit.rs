//! Memory that is short, seen by whoever uses it: lists hold what was put into them.

#![cfg(target_os = "linux")]

use proptest::prelude::*;
use std::sync::Once;

#[global_allocator]
static MEMORY: oeuvre_memory::Memory<256> = oeuvre_memory::Memory::new();
static SHORT: Once = Once::new();

fn be_short() {
    SHORT.call_once(|| oeuvre_memory::limit(4096, &std::env::temp_dir(), || {}, || false).unwrap());
}

/// What is done to one of some lists.
#[derive(Clone, Debug)]
enum Step {
    Push(usize, usize),
    Truncate(usize, usize),
    Zeros(usize, usize),
    Copy(usize, usize),
    Let(usize),
}

fn step() -> impl Strategy<Value = Step> {
    let size = || prop_oneof![0usize..600, 8000usize..9000, 60_000usize..70_000, Just(300_000)];
    prop_oneof![
        4 => (0usize..4, size()).prop_map(|(list, n)| Step::Push(list, n)),
        2 => (0usize..4, size()).prop_map(|(list, n)| Step::Truncate(list, n)),
        1 => (0usize..4, size()).prop_map(|(list, n)| Step::Zeros(list, n)),
        1 => (0usize..4, 0usize..4).prop_map(|(to, from)| Step::Copy(to, from)),
        1 => (0usize..4).prop_map(Step::Let),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    /// A list is known by how it was made: the number that each value is, from one on, and zeros before.
    #[test]
    fn lists_hold_what_was_put_into_them(steps in proptest::collection::vec(step(), 1..30)) {
        be_short();
        let mut lists: Vec<(usize, Vec<u64>)> = vec![(0, Vec::new()); 4];
        for step in steps {
            match step {
                Step::Push(list, n) => {
                    let (zeros, list) = &mut lists[list];
                    let from = (list.len() - *zeros) as u64;
                    list.extend((0..n as u64).map(|i| from + i + 1));
                }
                Step::Truncate(list, n) => {
                    let (zeros, list) = &mut lists[list];
                    list.truncate(n);
                    list.shrink_to_fit();
                    *zeros = (*zeros).min(n);
                }
                Step::Zeros(list, n) => lists[list] = (n, vec![0; n]),
                Step::Copy(to, from) => lists[to] = lists[from].clone(),
                Step::Let(list) => lists[list] = (0, Vec::new()),
            }
            for (zeros, list) in &lists {
                let numbers = list[*zeros..].iter().zip(1u64..);
                prop_assert!(list[..*zeros].iter().all(|n| *n == 0) && numbers.clone().all(|(n, i)| *n == i));
            }
        }
        prop_assert!(oeuvre_memory::spilled() < 1 << 30);
    }
}

#[test]
fn many_threads_take_and_give_back_at_once() {
    be_short();
    std::thread::scope(|scope| {
        for seed in 1..5u64 {
            scope.spawn(move || {
                let mut lists: Vec<Vec<u64>> = Vec::new();
                for round in 0..400u64 {
                    let size = (seed * 7919 * round) % 40_000;
                    lists.push((0..size).map(|i| i ^ seed ^ round).collect());
                    if lists.len() > 8 {
                        let gone = lists.swap_remove((round % 8) as usize);
                        let first = gone.first().copied().unwrap_or(0);
                        assert!(gone.iter().zip(0u64..).all(|(n, i)| *n == i ^ first));
                    }
                }
            });
        }
    });
    assert!(oeuvre_memory::spilled() > 0);
}

#[test]
fn what_is_too_large_for_the_limit_comes_and_goes_by_the_file() {
    be_short();
    let resident = || {
        let status = std::fs::read_to_string("/proc/self/status").unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS")).unwrap().to_owned();
        line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() >> 10
    };
    let large: Vec<u64> = (0..24 << 20).collect();
    assert!(large.iter().zip(0u64..).all(|(n, i)| *n == i));
    assert!(oeuvre_memory::spilled() >= 192 << 20);
    std::thread::sleep(std::time::Duration::from_millis(50));
    assert!(resident() < 100, "{} MiB of 192 and a few are at hand", resident());
    drop(large);
}

/// Lists so long that each has a file of its own, beside those of others.
#[test]
fn long_lists_hold_what_was_put_into_them() {
    be_short();
    let value = |seed: u64, at: usize| (at as u64).wrapping_mul(2 * seed + 1);
    // One of each page, the first and the last.
    let holds = |list: &[u64], seed: u64, filled: usize| {
        let mut places = (0..list.len()).step_by(509).chain(list.len().checked_sub(1));
        places.all(|at| list[at] == if at < filled { value(seed, at) } else { 0 })
    };
    std::thread::scope(|scope| {
        for seed in 1..3u64 {
            scope.spawn(move || {
                let mut lists: Vec<Vec<u64>> = Vec::new();
                for round in 0..4usize {
                    // Zeros, also where a list was before.
                    let mut list = vec![0u64; 5_000_000 + round * 700_000];
                    let filled = list.len() / 2;
                    list[..filled]
                        .iter_mut()
                        .enumerate()
                        .for_each(|(at, it)| *it = value(seed, at));
                    assert!(holds(&list, seed, filled));
                    let mut other = list.clone();
                    // Grows and shrinks where it stands.
                    other.resize(other.len() + 3_000_000, 0);
                    assert!(holds(&other, seed, filled));
                    other.truncate(filled);
                    other.shrink_to_fit();
                    other.resize(filled + 1_000_000, 0);
                    assert!(holds(&other, seed, filled));
                    lists.push(other);
                    if lists.len() > 2 {
                        lists.swap_remove(0);
                    }
                }
            });
        }
    });
}
