//! Statements that an app writes itself, with values bound by name and rows read by the names of their columns.

mod asked;

pub(crate) use asked::{Asked, ReadAs};

use crate::drawer::{Access, Alone, Drawer, Scope, Writes};
use crate::engine::Statement;
use crate::error::Error;
use crate::query::{EXPLAIN, Explained, Going, View};
use crate::records::Tx;
use std::borrow::Cow;
use std::ops::ControlFlow;
use std::panic::Location;
use velvet_core::exchange::sql_text::has_word;
use velvet_core::{Argument, Excerpt, Misfit, Value};

/// A statement of the app's own. Nothing is run until its rows are asked for, or it is told to `run`.
///
/// Values are bound by name and never become part of the statement's text.
///
/// ```
/// # use velvet_drawer::{Drawer, Excerpt, Record, Schema};
/// # #[derive(Record)] struct Piece { clay: String, grams: u32 }
/// #[derive(Excerpt, Debug, PartialEq)]
/// struct ClayCount {
///     clay: String,
///     n: u64,
/// }
///
/// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
/// # for (clay, grams) in [("grey", 250), ("grey", 400), ("white", 350)] {
/// #     drawer.insert(Piece { clay: clay.into(), grams })?;
/// # }
/// let rows: Vec<ClayCount> = drawer
///     .sql("select clay, count(*) as n from piece where grams > :grams group by clay order by clay")
///     .bind("grams", 300)
///     .rows()?;
/// assert_eq!(rows, [ClayCount { clay: "grey".into(), n: 1 }, ClayCount { clay: "white".into(), n: 1 }]);
///
/// // Writing takes a transaction.
/// let changed = drawer.write(|tx| tx.sql("update piece set grams = grams + :more").bind("more", 10).run())?;
/// assert_eq!(changed, 3);
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
#[must_use = "a statement is run when its rows are asked for, or by `run`"]
pub struct Sql<'a, A = Alone> {
    at: A,
    text: Cow<'a, str>,
    bound: Vec<(Cow<'a, str>, Result<Value, Misfit>)>,
}

impl Drawer {
    /// A statement of the app's own that reads; see [`Sql`]. To write, use [`Tx::sql`].
    pub fn sql<'a>(&self, text: impl Into<Cow<'a, str>>) -> Sql<'a> {
        Sql::new(self.alone(), text.into())
    }
}

impl View<'_> {
    /// A statement of the app's own that reads what the view sees; see [`Sql`].
    pub fn sql<'a>(&'a self, text: impl Into<Cow<'a, str>>) -> Sql<'a, Scope<'a>> {
        Sql::new(self.scope(), text.into())
    }
}

impl Tx<'_> {
    /// A statement of the app's own, which may write records; see [`Sql`].
    pub fn sql<'a>(&'a self, text: impl Into<Cow<'a, str>>) -> Sql<'a, Scope<'a, Writes>> {
        Sql::new(self.scope(), text.into())
    }
}

impl<'a, A: Access> Sql<'a, A> {
    fn new(at: A, text: Cow<'a, str>) -> Self {
        Sql { at, text, bound: Vec::new() }
    }

    /// Binds a value where the statement says `:name`.
    pub fn bind(mut self, name: impl Into<Cow<'a, str>>, value: impl Argument) -> Self {
        self.bound.push((name.into(), value.stored()));
        self
    }

    /// All rows as a list.
    ///
    /// # Errors
    /// When the statement is wrong, writes without a transaction, does more than read and write records, lacks a value or
    /// has one that it does not name ([`Error::is_bad_query`]); when a row does not fit `X`; and when the file cannot be read.
    pub fn rows<X: Excerpt>(self) -> Result<Vec<X>, Error> {
        let mut all = Vec::new();
        self.for_each(|row| all.push(row))?;
        Ok(all)
    }

    /// The first row, or nothing when there is none.
    ///
    /// # Errors
    /// As [`Sql::rows`].
    pub fn first<X: Excerpt>(self) -> Result<Option<X>, Error> {
        let mut first = None;
        self.for_each(|row| {
            first = Some(row);
            ControlFlow::Break(())
        })?;
        Ok(first)
    }

    /// Calls `work` with one row after the other, in constant memory. Ends early when `work` returns
    /// [`ControlFlow::Break`] or an error; nothing stays open then.
    ///
    /// # Errors
    /// As [`Sql::rows`], and what `work` returns.
    #[track_caller]
    pub fn for_each<X: Excerpt, G: Going>(self, work: impl FnMut(X) -> G) -> Result<(), Error> {
        let _open = self.at.held_open(Location::caller())?;
        self.prepared(|asked, statement| asked.each(statement, work))
    }

    /// Says how the statement would be run, without running it.
    ///
    /// # Errors
    /// As [`Sql::rows`].
    pub fn explain(mut self) -> Result<Explained, Error> {
        self.text = Cow::Owned(format!("{EXPLAIN}{}", self.text));
        self.prepared(|asked, explaining| {
            let text = asked.text.strip_prefix(EXPLAIN).unwrap_or(asked.text);
            Explained::of(asked.scope, text, has_word(text, "where"), &mut explaining.rows())
        })
    }

    /// Prepares it, binds its values, and hands it to `work`.
    fn prepared<R>(self, work: impl FnOnce(Asked<'_>, &mut Statement<'_>) -> Result<R, Error>) -> Result<R, Error> {
        let Sql { at, text, bound } = self;
        at.reading(|scope| {
            let asked = Asked { scope, text: &text };
            let mut statement = asked.prepared(!A::MAY_WRITE)?;
            asked.bind(&mut statement, bound)?;
            asked.told(work(asked, &mut statement))
        })
    }
}

impl Sql<'_, Scope<'_, Writes>> {
    /// Runs a statement that writes, and says how many records it inserted, changed or removed.
    ///
    /// # Errors
    /// As [`Sql::rows`], and when what it writes clashes or breaks a link. What was written before it in the transaction
    /// stays.
    pub fn run(self) -> Result<u64, Error> {
        self.prepared(|asked, statement| asked.run(statement))
    }
}
