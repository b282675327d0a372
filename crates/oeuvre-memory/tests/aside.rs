//! Pieces that are put aside leave ordinary memory to others.

#![cfg(target_os = "linux")]

use std::cell::Cell;

#[global_allocator]
static MEMORY: oeuvre_memory::Memory = oeuvre_memory::Memory::new();

thread_local! {
    static ASIDE: Cell<bool> = const { Cell::new(false) };
}

#[test]
fn what_is_put_aside_lies_in_the_file_while_others_have_room() {
    const LIMIT: usize = 64 << 20;
    oeuvre_memory::limit(LIMIT as u64, &std::env::temp_dir(), || {}, || ASIDE.get()).unwrap();
    let first = vec![1u8; LIMIT / 4];
    assert_eq!(oeuvre_memory::spilled(), 0);
    ASIDE.set(true);
    let mut aside = vec![2u8; LIMIT / 8];
    assert!(oeuvre_memory::spilled() >= (LIMIT / 8) as u64);
    ASIDE.set(false);
    let before = oeuvre_memory::spilled();
    let others = vec![3u8; LIMIT / 8];
    assert_eq!(oeuvre_memory::spilled(), before);
    aside.push(4);
    let all = first.iter().chain(&others).map(|&byte| usize::from(byte)).sum::<usize>();
    assert_eq!(all, LIMIT / 4 + 3 * (LIMIT / 8));
    assert!(aside.iter().rev().skip(1).all(|&byte| byte == 2) && aside.last() == Some(&4));
}
