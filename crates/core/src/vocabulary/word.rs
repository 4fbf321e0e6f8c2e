//! Closed sets of values, each of which a person types and reads as one word.

use crate::error::{Error, Result};
#[doc(hidden)]
pub use serde;

/// A value of a closed set that has one word for each.
pub trait Word: Copy + Eq + Send + Sync + 'static {
    /// What such a value is, as an error names it: `purpose`.
    const KIND: &'static str;
    /// Every value, in the order in which help shows them.
    const VALUES: &'static [Self];

    /// The word of this value.
    fn word(self) -> &'static str;

    /// Further spellings that are understood for it.
    fn also(self) -> &'static [&'static str] {
        &[]
    }

    /// Reads a word.
    ///
    /// Errors: [`Error::Word`] for a word that no value has; it names all that are accepted.
    fn from_word(typed: &str) -> Result<Self> {
        let found = Self::VALUES.iter().find(|v| v.word() == typed || v.also().contains(&typed));
        found.copied().ok_or_else(|| Error::Word {
            what: Self::KIND,
            typed: typed.to_owned(),
            accepted: joined(Self::VALUES),
        })
    }
}

/// Defines an enum whose values each have one word: `ALL`, `word()`, [`Word`], `FromStr`, `Display` and the same word
/// for serde.
///
/// ```
/// tamga_core::words! {
///     /// The state of the tide.
///     pub enum Tide: "tide" {
///         /// The water rises.
///         Flood = "flood",
///         /// The water falls.
///         Ebb = "ebb",
///     }
/// }
///
/// assert_eq!("ebb".parse::<Tide>()?, Tide::Ebb);
/// assert_eq!(Tide::ALL.map(Tide::word), ["flood", "ebb"]);
/// assert!("eb".parse::<Tide>().is_err());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
#[macro_export]
macro_rules! words {
    (
        $(#[$meta:meta])*
        $vis:vis enum $name:ident: $kind:literal {
            $($(#[$about:meta])* $variant:ident = $word:literal $(| $($other:literal)|+)?,)+
        }
    ) => {
        $(#[$meta])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        $vis enum $name { $($(#[$about])* $variant,)+ }

        impl $name {
            /// All of them, in the order in which help shows them.
            pub const ALL: [$name; [$($word),+].len()] = [$($name::$variant),+];

            /// The word that a person types and reads.
            pub const fn word(self) -> &'static str {
                match self { $($name::$variant => $word,)+ }
            }
        }

        impl $crate::vocabulary::word::Word for $name {
            const KIND: &'static str = $kind;
            const VALUES: &'static [$name] = &$name::ALL;

            fn word(self) -> &'static str {
                $name::word(self)
            }

            fn also(self) -> &'static [&'static str] {
                match self { $($name::$variant => &[$($($other),+)?],)+ }
            }
        }

        impl ::core::str::FromStr for $name {
            type Err = $crate::error::Error;

            fn from_str(typed: &str) -> $crate::error::Result<$name> {
                <$name as $crate::vocabulary::word::Word>::from_word(typed)
            }
        }

        impl $crate::vocabulary::word::serde::Serialize for $name {
            fn serialize<S: $crate::vocabulary::word::serde::Serializer>(&self, s: S) -> ::core::result::Result<S::Ok, S::Error> {
                s.serialize_str(self.word())
            }
        }

        impl<'de> $crate::vocabulary::word::serde::Deserialize<'de> for $name {
            fn deserialize<D: $crate::vocabulary::word::serde::Deserializer<'de>>(d: D) -> ::core::result::Result<$name, D::Error> {
                let typed = <::std::borrow::Cow<'de, str> as $crate::vocabulary::word::serde::Deserialize>::deserialize(d)?;
                typed.parse().map_err($crate::vocabulary::word::serde::de::Error::custom)
            }
        }

        impl ::core::fmt::Display for $name {
            fn fmt(&self, f: &mut ::core::fmt::Formatter<'_>) -> ::core::fmt::Result {
                f.pad(self.word())
            }
        }
    };
}

/// The words of several values, with commas.
///
/// ```
/// use tamga_core::stores::StoreId;
/// use tamga_core::vocabulary::word::joined;
///
/// assert_eq!(joined(&[StoreId::System, StoreId::Java]), "system, java");
/// ```
pub fn joined<T: Word>(values: &[T]) -> String {
    values.iter().map(|v| v.word()).collect::<Vec<_>>().join(", ")
}
