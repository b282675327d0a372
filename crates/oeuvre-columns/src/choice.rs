//! Values that are chosen by a name: in an option, in a report file.

/// What can be chosen by its name. With [`choices!`](crate::choices) it is read from a text, too.
///
/// ```
/// use oeuvre_columns::Choice;
/// #[derive(Clone, Copy, Debug, PartialEq)]
/// enum Side { Port, Starboard }
/// oeuvre_columns::choices!(Side { Port = "port": "On the left", Starboard = "starboard": "On the right" });
/// assert_eq!("port".parse(), Ok(Side::Port));
/// assert!("left".parse::<Side>().is_err());
/// assert_eq!(Side::ALL.len(), 2);
/// ```
pub trait Choice: Copy + Send + Sync + 'static {
    /// All of them, each with its name and with what it means.
    const ALL: &'static [(Self, &'static str, &'static str)];
}

/// Makes a [`Choice`] of an enum, and has it read from its names.
#[macro_export]
macro_rules! choices {
    ($type:ident { $($variant:ident = $name:literal: $meaning:literal),+ $(,)? }) => {
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
