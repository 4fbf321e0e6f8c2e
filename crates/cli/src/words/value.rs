//! JSON values from what commands report. Paths become text here, escaped where they are no text: no other way leads into JSON, so
//! that a path that is not UTF-8 cannot make it fail.

use serde_json::{Map, Value};
use std::path::{Path, PathBuf};
use tamga_core::text::Shown;

/// What can become JSON, without ever failing.
pub(crate) trait ToJson {
    /// The value.
    fn to_json(&self) -> Value;
}

macro_rules! plainly {
    ($($kind:ty),*) => {$(
        impl ToJson for $kind {
            fn to_json(&self) -> Value {
                Value::from(self.clone())
            }
        }
    )*};
}
plainly!(bool, u8, u16, u32, u64, usize, i32, i64, String, Value, Map<String, Value>);

impl ToJson for str {
    fn to_json(&self) -> Value {
        Value::from(self)
    }
}

impl ToJson for Path {
    fn to_json(&self) -> Value {
        Value::from(self.shown())
    }
}

impl ToJson for PathBuf {
    fn to_json(&self) -> Value {
        Value::from(self.shown())
    }
}

impl<T: ToJson + ?Sized> ToJson for &T {
    fn to_json(&self) -> Value {
        (**self).to_json()
    }
}

impl<T: ToJson> ToJson for Option<T> {
    fn to_json(&self) -> Value {
        self.as_ref().map_or(Value::Null, T::to_json)
    }
}

impl<T: ToJson> ToJson for [T] {
    fn to_json(&self) -> Value {
        Value::Array(self.iter().map(T::to_json).collect())
    }
}

impl<T: ToJson> ToJson for Vec<T> {
    fn to_json(&self) -> Value {
        self.as_slice().to_json()
    }
}

impl<T: ToJson, const N: usize> ToJson for [T; N] {
    fn to_json(&self) -> Value {
        self.as_slice().to_json()
    }
}

impl<T: ToJson> ToJson for std::collections::BTreeSet<T> {
    fn to_json(&self) -> Value {
        Value::Array(self.iter().map(T::to_json).collect())
    }
}

/// An object, an array or a value, written as JSON is.
macro_rules! json {
    (@object $map:ident) => {};
    (@object $map:ident $key:literal : null $(, $($rest:tt)*)?) => {
        $map.insert($key.to_owned(), serde_json::Value::Null);
        $($crate::words::json!(@object $map $($rest)*);)?
    };
    (@object $map:ident $key:literal : { $($inner:tt)* } $(, $($rest:tt)*)?) => {
        $map.insert($key.to_owned(), $crate::words::json!({ $($inner)* }));
        $($crate::words::json!(@object $map $($rest)*);)?
    };
    (@object $map:ident $key:literal : [ $($inner:tt)* ] $(, $($rest:tt)*)?) => {
        $map.insert($key.to_owned(), $crate::words::json!([ $($inner)* ]));
        $($crate::words::json!(@object $map $($rest)*);)?
    };
    (@object $map:ident $key:literal : $value:expr $(, $($rest:tt)*)?) => {
        $map.insert($key.to_owned(), $crate::words::value::ToJson::to_json(&$value));
        $($crate::words::json!(@object $map $($rest)*);)?
    };
    ({ $($inner:tt)* }) => {{
        #[allow(unused_mut, reason = "an empty object stays as it is")]
        let mut map = serde_json::Map::new();
        $crate::words::json!(@object map $($inner)*);
        serde_json::Value::Object(map)
    }};
    ([ $({ $($inner:tt)* }),+ $(,)? ]) => {
        serde_json::Value::Array(vec![$($crate::words::json!({ $($inner)* })),+])
    };
    ([ $($item:expr),* $(,)? ]) => {
        serde_json::Value::Array(vec![$($crate::words::value::ToJson::to_json(&$item)),*])
    };
    (null) => { serde_json::Value::Null };
    ($value:expr) => { $crate::words::value::ToJson::to_json(&$value) };
}
pub(crate) use json;
