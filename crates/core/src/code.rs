//! Values that are kept as whole numbers. A number that is none of them is an error of whoever kept it, never some usual value: an address
//! whose status can't be read must not be mailed as an active one.

/// A value with a number of its own.
pub trait Code: Copy + 'static {
    /// What it is, in words.
    const WHAT: &'static str;

    fn all() -> &'static [Self];

    /// The number it is kept as.
    fn code(self) -> i64;

    /// The value of a number; none of a number that stands for none.
    fn of_code(code: i64) -> Option<Self> {
        Self::all().iter().copied().find(|v| v.code() == code)
    }
}

/// Gives an enum with a list of all its values its numbers.
macro_rules! coded {
    ($type:ty, $what:literal) => {
        impl $crate::code::Code for $type {
            const WHAT: &'static str = $what;

            fn all() -> &'static [Self] {
                &Self::ALL
            }

            fn code(self) -> i64 {
                self as i64
            }
        }
    };
}
pub(crate) use coded;
