//! Values that are chosen by a name, in an option or in a report file.
//!
//! The name, the variant and its meaning are written once, with [`choices!`](crate::choices): the parser of
//! the options, the help and the documentation all read [`Choice::ALL`].

/// What can be chosen by its name. With [`choices!`](crate::choices) it is read from a text, too.
///
/// ```
/// use oeuvre_columns::Choice;
/// oeuvre_columns::choices! {
///     /// A side of the ship.
///     enum Side {
///         Port = "port": "On the left",
///         Starboard = "starboard": "On the right",
///     }
/// }
/// assert_eq!("port".parse(), Ok(Side::Port));
/// assert!("left".parse::<Side>().is_err());
/// assert_eq!((Side::ALL.len(), Side::Port.name()), (2, "port"));
/// ```
pub trait Choice: Copy + Send + Sync + 'static {
    /// All of them, each with its name and with what it means, in the order in which the help lists them. Names
    /// are lower case, and no two are the same.
    const ALL: &'static [(Self, &'static str, &'static str)];

    /// Its name.
    fn name(self) -> &'static str
    where
        Self: PartialEq,
    {
        Self::ALL.iter().find(|choice| choice.0 == self).map_or("", |choice| choice.1)
    }
}

/// An enum that is a [`Choice`] and is read from its names; what each means is its documentation, too.
#[macro_export]
macro_rules! choices {
    (
        $(#[$meta:meta])*
        $vis:vis enum $type:ident {
            $($(#[$of_variant:meta])* $variant:ident = $name:literal: $meaning:literal),+ $(,)?
        }
    ) => {
        $(#[$meta])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        $vis enum $type {
            $(#[doc = $meaning] $(#[$of_variant])* $variant),+
        }

        impl $crate::Choice for $type {
            const ALL: &'static [(Self, &'static str, &'static str)] =
                &[$(($type::$variant, $name, $meaning)),+];
        }

        impl std::str::FromStr for $type {
            type Err = ();

            fn from_str(name: &str) -> Result<$type, ()> {
                let all = <$type as $crate::Choice>::ALL;
                all.iter().find(|choice| choice.1 == name).map(|choice| choice.0).ok_or(())
            }
        }
    };
}
