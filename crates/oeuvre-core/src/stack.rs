//! Room on the stack for calculations that use each other thousands deep.
//!
//! Checking and lowering follow the syntax down. What a user may write nested is limited by the parser, but named
//! calculations may use each other as deep as there are names; the stack grows for them instead of ending the
//! program.

/// Where less of the stack than this is left, a piece of [`PIECE`] bytes is added.
const RED_ZONE: usize = 256 << 10;
const PIECE: usize = 4 << 20;

/// Runs something that may be nested deeply.
pub(crate) fn with_room<T>(run: impl FnOnce() -> T) -> T {
    stacker::maybe_grow(RED_ZONE, PIECE, run)
}
