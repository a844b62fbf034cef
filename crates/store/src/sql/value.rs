//! The values of parameters and columns.

use std::borrow::Cow;

use rusqlite::types::{ToSqlOutput, ValueRef};

/// A value on its way to or from the database.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Value<'v> {
    /// Nothing, where something of a kind could be.
    Null(Kind),
    Integer(i64),
    Real(f64),
    Text(Cow<'v, str>),
    Bytes(Cow<'v, [u8]>),
}

/// What a value is, or would be if it were there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[cfg_attr(not(feature = "replicas"), allow(dead_code))]
pub(crate) enum Kind {
    Integer,
    Real,
    Text,
    Bytes,
}

#[cfg_attr(not(feature = "replicas"), allow(dead_code))]
impl Value<'_> {
    /// What it is, or would be.
    pub fn kind(&self) -> Kind {
        match self {
            Self::Null(kind) => *kind,
            Self::Integer(_) => Kind::Integer,
            Self::Real(_) => Kind::Real,
            Self::Text(_) => Kind::Text,
            Self::Bytes(_) => Kind::Bytes,
        }
    }
}

/// Something that can be a parameter.
pub(crate) trait ToValue {
    /// Itself.
    fn value(&self) -> Value<'_>;
}

/// Something whose kind is known, also where it is not there.
pub(crate) trait Kinded {
    const KIND: Kind;
}

macro_rules! to_value {
    ($type:ty, $kind:ident, |$this:ident| $value:expr) => {
        impl ToValue for $type {
            fn value(&self) -> Value<'_> {
                let $this = self;
                $value
            }
        }

        impl Kinded for $type {
            const KIND: Kind = Kind::$kind;
        }
    };
}

to_value!(i64, Integer, |this| Value::Integer(*this));
to_value!(i32, Integer, |this| Value::Integer(i64::from(*this)));
to_value!(u32, Integer, |this| Value::Integer(i64::from(*this)));
to_value!(bool, Integer, |this| Value::Integer(i64::from(*this)));
to_value!(str, Text, |this| Value::Text(Cow::Borrowed(this)));
to_value!(String, Text, |this| Value::Text(Cow::Borrowed(this)));
to_value!(Cow<'_, str>, Text, |this| Value::Text(Cow::Borrowed(this)));
to_value!([u8], Bytes, |this| Value::Bytes(Cow::Borrowed(this)));
to_value!(Vec<u8>, Bytes, |this| Value::Bytes(Cow::Borrowed(this)));

impl<T: ToValue + ?Sized> ToValue for &T {
    fn value(&self) -> Value<'_> {
        (**self).value()
    }
}

impl<T: Kinded + ?Sized> Kinded for &T {
    const KIND: Kind = T::KIND;
}

impl<T: ToValue + Kinded> ToValue for Option<T> {
    fn value(&self) -> Value<'_> {
        self.as_ref().map_or(Value::Null(T::KIND), ToValue::value)
    }
}

impl rusqlite::ToSql for Value<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Self::Null(_) => ValueRef::Null,
            Self::Integer(number) => ValueRef::Integer(*number),
            Self::Real(number) => ValueRef::Real(*number),
            Self::Text(text) => ValueRef::Text(text.as_bytes()),
            Self::Bytes(bytes) => ValueRef::Blob(bytes),
        }))
    }
}

impl<'v> From<ValueRef<'v>> for Value<'v> {
    fn from(value: ValueRef<'v>) -> Self {
        match value {
            // What it would be is never asked of an answer.
            ValueRef::Null => Self::Null(Kind::Bytes),
            ValueRef::Integer(number) => Self::Integer(number),
            ValueRef::Real(number) => Self::Real(number),
            ValueRef::Text(text) => Self::Text(String::from_utf8_lossy(text)),
            ValueRef::Blob(bytes) => Self::Bytes(Cow::Borrowed(bytes)),
        }
    }
}

/// A column does not hold what was asked for.
#[derive(Debug, thiserror::Error)]
#[error("it does not hold {0}")]
pub(crate) struct WrongKind(&'static str);

/// Something that a column can hold.
pub(crate) trait FromValue: Sized {
    /// Reads it.
    fn from_value(value: Value<'_>) -> Result<Self, WrongKind>;
}

impl FromValue for i64 {
    fn from_value(value: Value<'_>) -> Result<Self, WrongKind> {
        match value {
            Value::Integer(number) => Ok(number),
            _ => Err(WrongKind("a number")),
        }
    }
}

impl FromValue for bool {
    fn from_value(value: Value<'_>) -> Result<Self, WrongKind> {
        i64::from_value(value).map(|number| number != 0)
    }
}

impl FromValue for Box<str> {
    fn from_value(value: Value<'_>) -> Result<Self, WrongKind> {
        String::from_value(value).map(String::into_boxed_str)
    }
}

impl FromValue for String {
    fn from_value(value: Value<'_>) -> Result<Self, WrongKind> {
        match value {
            Value::Text(text) => Ok(text.into_owned()),
            _ => Err(WrongKind("a text")),
        }
    }
}

impl FromValue for Vec<u8> {
    fn from_value(value: Value<'_>) -> Result<Self, WrongKind> {
        match value {
            Value::Bytes(bytes) => Ok(bytes.into_owned()),
            _ => Err(WrongKind("bytes")),
        }
    }
}

/// Any value, kept.
#[cfg(feature = "replicas")]
pub(crate) struct Owned(Value<'static>);

#[cfg(feature = "replicas")]
impl Owned {
    /// A text.
    pub fn text(text: &str) -> Self {
        Self(Value::Text(Cow::Owned(text.to_owned())))
    }

    /// About how many bytes it takes.
    pub fn size(&self) -> usize {
        match &self.0 {
            Value::Text(text) => text.len(),
            Value::Bytes(bytes) => bytes.len(),
            _ => 8,
        }
    }

    /// Itself; nothing is nothing of this kind.
    pub fn or_nothing_of(self, kind: Kind) -> Self {
        match self.0 {
            Value::Null(_) => Self(Value::Null(kind)),
            value => Self(value),
        }
    }
}

#[cfg(feature = "replicas")]
impl ToValue for Owned {
    fn value(&self) -> Value<'_> {
        match &self.0 {
            Value::Null(kind) => Value::Null(*kind),
            Value::Integer(number) => Value::Integer(*number),
            Value::Real(number) => Value::Real(*number),
            Value::Text(text) => Value::Text(Cow::Borrowed(text)),
            Value::Bytes(bytes) => Value::Bytes(Cow::Borrowed(bytes)),
        }
    }
}

#[cfg(feature = "replicas")]
impl FromValue for Owned {
    fn from_value(value: Value<'_>) -> Result<Self, WrongKind> {
        Ok(Self(match value {
            Value::Null(kind) => Value::Null(kind),
            Value::Integer(number) => Value::Integer(number),
            Value::Real(number) => Value::Real(number),
            Value::Text(text) => Value::Text(Cow::Owned(text.into_owned())),
            Value::Bytes(bytes) => Value::Bytes(Cow::Owned(bytes.into_owned())),
        }))
    }
}

impl<T: FromValue> FromValue for Option<T> {
    fn from_value(value: Value<'_>) -> Result<Self, WrongKind> {
        match value {
            Value::Null(_) => Ok(None),
            value => T::from_value(value).map(Some),
        }
    }
}
