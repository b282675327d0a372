//! Room on the stack for calculations that use each other thousands deep.

/// Where less of the stack than this is left, a piece of [`PIECE`] bytes is added.
const RED_ZONE: usize = 256 << 10;
const PIECE: usize = 4 << 20;

/// Runs something that may be nested deeply.
pub(crate) fn with_room<T>(run: impl FnOnce() -> T) -> T {
    stacker::maybe_grow(RED_ZONE, PIECE, run)
}
