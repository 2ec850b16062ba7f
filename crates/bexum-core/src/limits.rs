//! Every bound of the core, by name. Crossing one is a fault of its own, never a crash.

/// Longest name of anything, in bytes (spec section 2).
pub const NAME_BYTES: usize = 128;
/// Longest path in a request, in bytes (spec section 5).
pub const PATH_BYTES: usize = 4096;
/// Deepest nesting of parentheses and `not` in a condition.
pub const CONDITION_DEPTH: usize = 200;
/// Longest condition, in bytes.
pub const CONDITION_BYTES: usize = 64 * 1024;
/// Longest `on` or `do` pattern, in bytes.
pub const PATTERN_BYTES: usize = 8 * 1024;
/// Deepest nesting of attribute tables.
pub const ATTRIBUTE_DEPTH: usize = 64;

/// Requests that one check makes at most.
pub const CHECK_REQUESTS: usize = 100_000;
/// Most links of a loop that are told one by one.
pub const LOOP_LINKS: usize = 12;
