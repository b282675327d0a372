//! How large a process becomes that keeps memory; in a process of its own, since others would count.

#![cfg(target_os = "linux")]

#[global_allocator]
static MEMORY: oeuvre_memory::Memory = oeuvre_memory::Memory::new();

const MIB: usize = 1 << 20;

/// How much memory the process has, and how much it had when that was most, in MiB.
fn resident() -> [usize; 2] {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    ["VmRSS:", "VmHWM:"].map(|name| {
        let line = status.lines().find_map(|line| line.strip_prefix(name)).unwrap();
        line.trim().trim_end_matches(" kB").parse::<usize>().unwrap() >> 10
    })
}

#[test]
fn what_is_kept_makes_nothing_larger() {
    let filled = |mib: usize| vec![1u8; mib * MIB];
    let first = filled(60);
    let [here, most] = resident();
    drop(first);
    assert!(resident()[0] + 8 >= here, "what is given back stays");
    // Pieces of other sizes are cut from it, or take its place.
    for sizes in [[10, 20, 25], [51, 4, 4], [6, 30, 20]] {
        let pieces = sizes.map(filled);
        assert!(pieces.iter().all(|piece| piece.iter().step_by(4096).all(|&b| b == 1)));
        let now = resident();
        assert!(now[1] <= most + 8, "{now:?} MiB after {most}");
    }
}
