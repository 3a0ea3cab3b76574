//! Schemas of types whose JSON form differs from their fields. The others are derived where they are defined.
//!
//! `ComposeSchema` is the trait that derived schemas ask of the types within them.

use std::borrow::Cow;

use utoipa::{
    __dev::ComposeSchema,
    PartialSchema, ToSchema,
    openapi::{
        Ref, RefOr, Schema,
        schema::{ArrayBuilder, ObjectBuilder, OneOfBuilder, Type},
    },
};

use crate::{
    keeping::ByteSize,
    model::{Histogram, Value},
    query::{
        Binary, Call, Condition, Expr, InstantText, PointsOf, Range, Reducer, Reduction, Selection, Spanned, TagMatch, TagTest, Text, ValueTest,
    },
    time::{LocalTime, Span},
};

/// Types that are a text in JSON, each with its description and an example.
macro_rules! texts {
    ($($type:ty, $name:literal, $description:literal, $example:literal;)*) => {$(
        impl ComposeSchema for $type {
            fn compose(_: Vec<RefOr<Schema>>) -> RefOr<Schema> {
                ObjectBuilder::new().schema_type(Type::String).description(Some($description)).examples([$example]).into()
            }
        }

        impl ToSchema for $type {
            fn name() -> Cow<'static, str> {
                Cow::Borrowed($name)
            }
        }
    )*};
}

texts! {
    Span, "Span", "A time span: numbers with units.", "1h30m";
    LocalTime, "LocalTime", "A time of day.", "06:00";
    ByteSize, "ByteSize", "A number of bytes with a unit.", "20GB";
    Reducer, "Reducer", "The name of a reducer, with its argument.", "p95";
}

/// Where a part of a query stands in its text is not part of its JSON form.
impl<T: PartialSchema> PartialSchema for Spanned<T> {
    fn schema() -> RefOr<Schema> {
        T::schema()
    }
}

impl<T: ToSchema> ToSchema for Spanned<T> {
    fn name() -> Cow<'static, str> {
        match T::name() {
            // A name that a reader of the API can tell from the language's own type.
            name if name == "String" => Cow::Borrowed("QueryText"),
            name => name,
        }
    }

    fn schemas(schemas: &mut Vec<(String, RefOr<Schema>)>) {
        T::schemas(schemas);
    }
}

/// The derive takes every type that is called `Value` for any JSON: fields of this one are marked with its other name.
pub type PointValue = Value;

impl ComposeSchema for Value {
    fn compose(_: Vec<RefOr<Schema>>) -> RefOr<Schema> {
        let of = |schema_type: Type, description: &str| ObjectBuilder::new().schema_type(schema_type).description(Some(description));
        OneOfBuilder::new()
            .item(of(Type::Number, "A number."))
            .item(of(Type::String, "A word of a state."))
            .item(Ref::from_schema_name(Histogram::name()))
            .description(Some("The value of a point."))
            .into()
    }
}

impl ToSchema for Value {
    fn name() -> Cow<'static, str> {
        Cow::Borrowed("Value")
    }

    fn schemas(schemas: &mut Vec<(String, RefOr<Schema>)>) {
        schemas.push((Histogram::name().into_owned(), Histogram::schema()));
    }
}

/// An object with one property.
fn variant(name: &str, schema: impl Into<RefOr<Schema>>) -> ObjectBuilder {
    ObjectBuilder::new().property(name, schema).required(name)
}

impl ComposeSchema for Range {
    fn compose(_: Vec<RefOr<Schema>>) -> RefOr<Schema> {
        let instant = || Ref::from_schema_name(InstantText::name());
        OneOfBuilder::new()
            .item(variant("last", Ref::from_schema_name(Span::name())))
            .item(variant("between", ArrayBuilder::new().items(instant()).min_items(Some(2)).max_items(Some(2))))
            .item(variant("since", instant()))
            .item(variant("calendar", String::schema()))
            .description(Some("A range of time, relative to now or not."))
            .into()
    }
}

impl ToSchema for Range {
    fn name() -> Cow<'static, str> {
        Cow::Borrowed("Range")
    }

    fn schemas(schemas: &mut Vec<(String, RefOr<Schema>)>) {
        schemas.push((Span::name().into_owned(), Span::schema()));
        schemas.push((InstantText::name().into_owned(), InstantText::schema()));
        InstantText::schemas(schemas);
    }
}

fn add<T: ToSchema>(schemas: &mut Vec<(String, RefOr<Schema>)>) {
    schemas.push((T::name().into_owned(), T::schema()));
    T::schemas(schemas);
}

/// Schemas of the parts of expressions and conditions. These may hold each other, so that they cannot list each other's parts.
pub fn query_schemas() -> Vec<(String, RefOr<Schema>)> {
    let mut schemas = Vec::new();
    add::<Expr>(&mut schemas);
    add::<Binary>(&mut schemas);
    add::<Call>(&mut schemas);
    add::<Reduction>(&mut schemas);
    add::<Selection>(&mut schemas);
    add::<PointsOf>(&mut schemas);
    add::<Condition>(&mut schemas);
    add::<TagTest>(&mut schemas);
    add::<TagMatch>(&mut schemas);
    add::<ValueTest>(&mut schemas);
    add::<Text>(&mut schemas);
    schemas
}
