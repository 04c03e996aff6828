//! Values that are kept as whole numbers. A number that is none of them is an error of the one who kept it, never some usual value: an address
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

/// A value with a word of its own.
pub trait Word: Copy + 'static {
    /// What it is, in words.
    const WHAT: &'static str;

    fn all() -> &'static [Self];

    /// The word it is kept as and told as by the API, where it is.
    fn word(self) -> &'static str;

    /// The value of a word; none of a word that stands for none.
    fn of_word(word: &str) -> Option<Self> {
        Self::all().iter().copied().find(|v| v.word() == word)
    }
}

/// Gives an enum a word for each of its values, and shows them as those.
macro_rules! worded {
    ($type:ty, $what:literal, $($value:ident => $word:literal),+ $(,)?) => {
        impl $crate::code::Word for $type {
            const WHAT: &'static str = $what;

            fn all() -> &'static [Self] {
                &[$(Self::$value),+]
            }

            fn word(self) -> &'static str {
                self.as_str()
            }
        }

        impl $type {
            /// The word it is kept as, for constants.
            #[must_use]
            pub const fn as_str(self) -> &'static str {
                match self {
                    $(Self::$value => $word),+
                }
            }
        }

        impl std::fmt::Display for $type {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(&$crate::code::Word::word(*self).replace('_', " "))
            }
        }
    };
}
pub(crate) use worded;

/// What becomes of each state by each event, as a table of a doc comment.
#[cfg(test)]
pub(crate) fn drawn<S: Copy + std::fmt::Display, E: Word + std::fmt::Display>(
    what: &str,
    states: &[S],
    next: impl Fn(S, E) -> Option<S>,
) -> String {
    let row = |cells: Vec<String>| format!("//! | {} |\n", cells.join(" | "));
    let heads = std::iter::once(what.to_owned()).chain(E::all().iter().map(E::to_string)).collect();
    let rows = states.iter().map(|s| {
        let cells = E::all().iter().map(|e| next(*s, *e).map_or_else(String::new, |n| n.to_string()));
        row(std::iter::once(s.to_string()).chain(cells).collect())
    });
    format!("{}//! |{}\n{}", row(heads), "---|".repeat(1 + E::all().len()), rows.collect::<String>())
}
