//! One statement of the app's own, where it is run: whether it, its values and what its rows are read as fit each other.

use crate::drawer::Scope;
use crate::engine::{Fault, FaultKind, Placed, Statement};
use crate::error::{Cause, Error};
use crate::query::Going;
use std::borrow::Cow;
use velvet_core::exchange::sql_text::{Token, has_word, tokens};
use velvet_core::query::excerpt::{Wanted, places};
use velvet_core::value::name::{KEY_COLUMN, nearest};
use velvet_core::{Excerpt, Misfit, Value};

/// What the number of a row is called in a statement.
const ROW_NUMBERS: [&str; 4] = [KEY_COLUMN, "rowid", "_rowid_", "oid"];

/// A statement of the app's own, and where it is run.
#[derive(Clone, Copy)]
pub(crate) struct Asked<'a> {
    pub(crate) scope: Scope<'a>,
    pub(crate) text: &'a str,
}

/// A value as it was bound: its name, and its stored form.
pub(super) type Bound<'a> = (Cow<'a, str>, Result<Value, Misfit>);

/// How the columns that a statement returns are read.
pub(crate) struct ReadAs {
    pub(crate) wanted: Vec<Wanted>,
    places: Vec<usize>,
}

impl ReadAs {
    /// The place among the returned columns of each one that is wanted.
    pub(crate) fn places(&self) -> &[usize] {
        &self.places
    }
}

impl<'a> Asked<'a> {
    /// The statement, prepared; with `reads`, one that writes is refused.
    pub(crate) fn prepared(self, reads: bool) -> Result<Statement<'a>, Error> {
        let statement = self.scope.connection.prepare_foreign(self.text).map_err(|fault| self.fault(fault))?;
        if reads && !statement.only_reads() {
            let error = self.wrong("it writes, and here statements only read");
            return Err(error.advise("Use a transaction: `drawer.write(|tx| tx.sql(…).run())`"));
        }
        Ok(statement)
    }

    /// Binds each value by its name; every name in the statement needs one.
    pub(super) fn bind(self, statement: &mut Statement<'_>, bound: Vec<Bound<'_>>) -> Result<(), Error> {
        let arguments: Vec<Option<String>> = statement.arguments().into_iter().map(|a| a.map(plain)).collect();
        let mut values: Vec<Option<Value>> = vec![None; arguments.len()];
        for (name, value) in bound {
            let name = plain(&name);
            let value = value.map_err(|misfit| self.wrong(&format!("the value of `:{name}`: {misfit}")))?;
            match arguments.iter().position(|a| a.as_deref() == Some(&name)) {
                Some(at) => values[at] = Some(value),
                None => {
                    let names: Vec<String> = arguments.iter().flatten().map(|a| format!("`:{a}`")).collect();
                    let has = if names.is_empty() {
                        "no values to bind".into()
                    } else {
                        format!("only {}", names.join(", "))
                    };
                    return Err(self.wrong(&format!("a value is bound to `:{name}`, but it has {has}")));
                }
            }
        }
        for (at, (argument, value)) in arguments.iter().zip(values).enumerate() {
            let Some(argument) = argument else {
                return Err(self.wrong("it has a `?` without a name; write `:name`, and bind the value to that"));
            };
            let value = value.ok_or_else(|| self.wrong(&format!("no value is bound to `:{argument}`")))?;
            statement.bind(at + 1, value.as_ref()).map_err(|fault| self.fault(fault))?;
        }
        Ok(())
    }

    /// Binds the same value wherever the statement has a name for one.
    pub(crate) fn bind_everywhere(self, statement: &mut Statement<'_>, value: &Value) -> Result<(), Error> {
        let names: Vec<String> = statement.arguments().into_iter().flatten().map(str::to_owned).collect();
        self.bind_each(statement, &names.into_iter().map(|name| (name, value.clone())).collect::<Vec<_>>())
    }

    /// Binds values by their names.
    pub(crate) fn bind_each(self, statement: &mut Statement<'_>, values: &[(String, Value)]) -> Result<(), Error> {
        self.bind(statement, values.iter().map(|(name, value)| (name.as_str().into(), Ok(value.clone()))).collect())
    }

    /// How its rows are read as `X`.
    pub(crate) fn fit<X: Excerpt>(self, statement: &Statement<'_>) -> Result<ReadAs, Error> {
        let returned = statement.returns();
        if returned.is_empty() {
            return Err(self.wrong("it returns no rows").advise("Use `run`, in a transaction"));
        }
        let wanted = X::wanted();
        let places = places(&wanted, &returned).map_err(|problem| self.wrong(&problem.to_string()))?;
        Ok(ReadAs { wanted, places })
    }

    /// Hands each row to `work`.
    pub(crate) fn each<X: Excerpt, G: Going>(
        self,
        statement: &mut Statement<'_>,
        mut work: impl FnMut(X) -> G,
    ) -> Result<(), Error> {
        let fit = self.fit::<X>(statement)?;
        let mut rows = statement.rows();
        while let Some(row) = rows.next().map_err(|fault| self.fault(fault))? {
            let value = X::read(&mut Placed(row, fit.places())).map_err(|misfit| {
                let name = misfit.column.map_or_else(String::new, |at| format!("`{}` of ", row.name(at)));
                self.unreadable(&name, misfit)
            })?;
            if work(value).going()?.is_break() {
                break;
            }
        }
        Ok(())
    }

    /// Runs a statement that writes.
    pub(crate) fn run(self, statement: &mut Statement<'_>) -> Result<u64, Error> {
        if !statement.returns().is_empty() {
            return Err(self.wrong("it returns rows").advise("Ask for them with `rows` or `first`"));
        }
        let rows = statement.execute().map_err(|fault| self.fault(fault))?;
        // The engine does not tell of a row that is replaced, nor of the number that a row had before.
        let is_number = |token: &Token<'_>| ROW_NUMBERS.iter().any(|name| token.is(name));
        let mut set = tokens(self.text).into_iter().skip_while(|t| !t.is("set")).take_while(|t| !t.is("where"));
        if has_word(self.text, "replace") || set.any(|token| is_number(&token)) {
            self.scope.connection.replaced_rows();
        }
        Ok(rows)
    }

    /// An error about the statement itself.
    #[cold]
    pub(crate) fn wrong(self, problem: &str) -> Error {
        self.named(Error::bare(Cause::BadQuery, problem))
    }

    /// An error, with what was being done.
    #[cold]
    fn named(self, error: Error) -> Error {
        let error = error.doing(format_args!("cannot run {}", self.shown()));
        self.scope.inner.place.name(error.untouched("Nothing was written by it"))
    }

    /// What came of it.
    pub(super) fn told<R>(self, result: Result<R, Error>) -> Result<R, Error> {
        result.map_err(|error| if error.is_bare() { self.named(error) } else { error })
    }

    /// A row that does not fit.
    #[cold]
    fn unreadable(self, column: &str, misfit: Misfit) -> Error {
        let problem = format!("cannot read {column}{}: {misfit}", self.shown());
        let advice =
            misfit.advice.unwrap_or_else(|| "Read it as another type, or as an Option where it may be missing".into());
        self.scope.inner.place.name(Error::new(Cause::Unreadable, problem).advise(advice))
    }

    /// What the engine says of it, with the name that was probably meant.
    #[cold]
    pub(crate) fn fault(self, fault: Fault) -> Error {
        let structure = &self.scope.inner.declared.structure;
        let meant = |name: &str, candidates: Vec<&str>| {
            let name = name.rsplit('.').next().unwrap_or(name);
            nearest(name, candidates).map_or(String::new(), |near| format!("; did you mean `{near}`?"))
        };
        match fault.kind {
            FaultKind::NoTable(name) => {
                let near = meant(&name, structure.tables.iter().map(|t| t.name.as_str()).collect());
                self.wrong(&format!("there is no table `{name}`{near}"))
            }
            FaultKind::NoColumn(name) => {
                let near = meant(&name, structure.tables.iter().flat_map(|t| t.column_names()).collect());
                self.wrong(&format!("there is no column `{name}`{near}"))
            }
            FaultKind::Forbidden | FaultKind::Other => self.wrong(&fault.message),
            _ => self.named(Error::from(fault)),
        }
    }

    /// The statement in a message: one line, not too long.
    fn shown(self) -> String {
        let line = self.text.split_whitespace().collect::<Vec<_>>().join(" ");
        match line.char_indices().nth(120) {
            Some((end, _)) => format!("“{}…”", &line[..end]),
            None => format!("“{line}”"),
        }
    }
}

/// A name without the sign before it.
fn plain(name: &str) -> String {
    name.trim_start_matches([':', '@', '$']).to_owned()
}
