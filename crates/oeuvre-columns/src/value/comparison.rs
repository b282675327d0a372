//! The comparisons of values, as operators of the language and as what a loop asks of an order.
//!
//! ```
//! use oeuvre_columns::value::Comparison;
//!
//! assert!(Comparison::LessEqual.holds(2.cmp(&3)) && Comparison::LessEqual.holds(3.cmp(&3)));
//! assert_eq!(Comparison::LessEqual.text(), "<=");
//! assert_eq!(Comparison::LessEqual.flipped().text(), ">=");
//! ```

/// The comparisons.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Comparison {
    /// `=`
    Equal,
    /// `<>`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    LessEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterEqual,
}

impl Comparison {
    /// The comparison as written.
    pub const fn text(self) -> &'static str {
        match self {
            Comparison::Equal => "=",
            Comparison::NotEqual => "<>",
            Comparison::Less => "<",
            Comparison::LessEqual => "<=",
            Comparison::Greater => ">",
            Comparison::GreaterEqual => ">=",
        }
    }

    /// Whether it holds for two values in this order.
    #[inline]
    pub fn holds(self, order: std::cmp::Ordering) -> bool {
        match self {
            Comparison::Equal => order.is_eq(),
            Comparison::NotEqual => order.is_ne(),
            Comparison::Less => order.is_lt(),
            Comparison::LessEqual => order.is_le(),
            Comparison::Greater => order.is_gt(),
            Comparison::GreaterEqual => order.is_ge(),
        }
    }

    /// The comparison that holds for `b, a` where this one holds for `a, b`.
    pub const fn flipped(self) -> Comparison {
        match self {
            Comparison::Less => Comparison::Greater,
            Comparison::LessEqual => Comparison::GreaterEqual,
            Comparison::Greater => Comparison::Less,
            Comparison::GreaterEqual => Comparison::LessEqual,
            same => same,
        }
    }
}
