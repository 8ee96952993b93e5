//! Values inside nested values and lists, which are stored as JSON text.

use super::{Column, Computed, Term};
use crate::column_type::{ColumnType, Json, stored_arg};
use crate::query::condition::Condition;
use crate::query::fragment::Fragment;

/// A column that holds JSON text: a field with `#[record(json)]` or a `serde_json::Value`.
#[diagnostic::on_unimplemented(
    message = "a column of `{Self}` has nothing inside",
    note = "`inside` and `len` are for fields with `#[record(json)]` and for `serde_json::Value`"
)]
pub trait Nesting: ColumnType {}

impl<V> Nesting for Json<V> where Json<V>: ColumnType {}
impl Nesting for serde_json::Value {}
impl<C: Nesting> Nesting for Option<C> {}

/// A column type whose stored form is also how serde writes it in JSON, so that values inside can be compared with it.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not read from inside a nested value",
    note = "numbers, `bool`, `String`, `jiff::civil::Date` and `Uuid` are; for others say `String` and give the text that serde writes"
)]
pub trait InJson: ColumnType {}

macro_rules! in_json {
    ($($rust:ty),*) => {$(impl InJson for $rust {})*};
}

in_json!(i8, i16, i32, i64, u8, u16, u32, u64, f32, f64, bool, String, jiff::civil::Date);
#[cfg(feature = "uuid")]
in_json!(uuid::Uuid);

/// The way to a value inside: the name of a field, the position in a list (from 0), or a tuple of these.
pub trait Inside {
    /// Appends it in the form that the engine reads.
    #[doc(hidden)]
    fn push(&self, path: &mut String);
}

impl Inside for &str {
    fn push(&self, path: &mut String) {
        // Names in stored JSON are escaped, and the engine compares them as they stand there.
        path.push('.');
        path.push_str(&serde_json::Value::from(*self).to_string());
    }
}

impl Inside for usize {
    fn push(&self, path: &mut String) {
        path.push_str(&format!("[{self}]"));
    }
}

macro_rules! tuple_of_steps {
    ($($name:ident),+) => {
        impl<$($name: Inside),+> Inside for ($($name,)+) {
            #[allow(non_snake_case)]
            fn push(&self, path: &mut String) {
                let ($($name,)+) = self;
                $($name.push(path);)+
            }
        }
    };
}

tuple_of_steps!(A, B);
tuple_of_steps!(A, B, C);
tuple_of_steps!(A, B, C, D);
tuple_of_steps!(A, B, C, D, F);

fn path(to: impl Inside) -> String {
    let mut path = String::from("$");
    to.push(&mut path);
    path
}

impl<T, C: ColumnType, E: Term> Column<T, C, E> {
    /// The value inside, as a `D`; missing where there is none. The type is not checked against what is stored: a
    /// value of another kind is equal to nothing that a `D` can be.
    ///
    /// ```
    /// # use velvet_drawer::Record;
    /// # #[derive(serde::Serialize, serde::Deserialize)] struct Recipe { parts: Vec<Part> }
    /// # #[derive(serde::Serialize, serde::Deserialize)] struct Part { of: String, percent: u32 }
    /// # #[derive(Record)] struct Glaze { #[record(json)] recipe: Recipe }
    /// # let drawer = velvet_drawer::Drawer::in_memory(velvet_drawer::Schema::new("kilnbook").record::<Glaze>())?;
    /// let mostly_silica = drawer.records::<Glaze>().filter(|g| {
    ///     g.recipe.inside::<String>(("parts", 0, "of")).is("silica") & g.recipe.inside::<u32>(("parts", 0, "percent")).at_least(50)
    /// });
    /// # mostly_silica.collect()?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn inside<D: InJson>(self, to: impl Inside) -> Column<T, Option<D>, Computed>
    where
        C: Nesting,
    {
        let (begin, end) = if D::kind().storage() == "REAL" { ("CAST(", " AS REAL)") } else { ("", "") };
        let text = Fragment::text(begin).then("json_extract(").and(self.write()).then(", ?)").then(end);
        Column::computed(text.bind(path(to)))
    }

    /// How many elements a list has; 0 for everything that is no list, and missing where the value is.
    pub fn len(self) -> Column<T, Option<u64>, Computed>
    where
        C: Nesting,
    {
        Column::computed(Fragment::text("json_array_length(").and(self.write()).then(")"))
    }
}

impl<T, C: ColumnType, E: Term> Column<T, C, E> {
    /// Whether the list has this element.
    pub fn has<V: InJson>(self, element: V::Arg<'_>) -> Condition<T>
    where
        C: ColumnType<Inner = Json<Vec<V>>>,
        Json<Vec<V>>: ColumnType,
    {
        match stored_arg::<V>(element) {
            Ok(value) => {
                let text = Fragment::text("EXISTS (SELECT 1 FROM json_each(").and(self.write());
                Condition::of(text.then(") WHERE value = ?)").bind(value))
            }
            Err(misfit) => self.misfit(misfit),
        }
    }
}
