//! Any statement that only reads.

use super::file::{File, FoundColumn};
use crate::engine::{Fault, FaultKind};
use crate::error::{Cause, Error};
use velvet_core::ValueRef;
use velvet_core::value::name::nearest;

impl File {
    /// Runs a statement that somebody typed, which may only read: `head` gets the columns that come out, then `each` the values of every
    /// row.
    ///
    /// # Errors
    /// When the statement is wrong or does more than read ([`Error::is_bad_query`]), the file cannot be read, and what `head` and
    /// `each` return.
    ///
    /// ```
    /// use velvet_drawer::inspect::File;
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// # Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>())?.insert(Glaze { name: "Celadon".into() })?;
    /// let file = File::open(&path)?;
    /// let mut longest = None;
    /// file.query("select max(length(name)) as longest from glaze", &mut |_| Ok(()), &mut |row| {
    ///     longest = Some(row[0].to_value());
    ///     Ok(())
    /// })?;
    /// assert_eq!(longest, Some(7.into()));
    /// assert!(file.query("delete from glaze", &mut |_| Ok(()), &mut |_| Ok(())).unwrap_err().is_bad_query());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn query(
        &self,
        text: &str,
        head: &mut dyn FnMut(&[FoundColumn]) -> Result<(), Error>,
        each: &mut dyn FnMut(&[ValueRef<'_>]) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let refused = |why: &str, advice: &str| {
            let error = Error::new(Cause::BadQuery, format!("the statement cannot be run: {why}"))
                .untouched("Nothing was read");
            Err(error.advise(advice).in_file(self.path()))
        };
        self.read("cannot run the statement", |c| {
            let mut statement = match c.prepare(text) {
                Err(fault)
                    if !matches!(
                        fault.kind,
                        FaultKind::Damaged | FaultKind::Endless(_) | FaultKind::Interrupted(_)
                    ) =>
                {
                    let (why, advice) = self.what_is_wrong(text, &fault);
                    return refused(&why, &advice);
                }
                other => other?,
            };
            if !statement.only_reads() || statement.returns().is_empty() {
                return refused(
                    "it does more than read, or returns nothing",
                    "Write a statement that begins with SELECT",
                );
            }
            let origins = statement.origins();
            let names = statement.returns().into_iter().map(str::to_owned).collect::<Vec<_>>();
            let kind = |origin: &Option<(String, String)>| {
                let (table, column) = origin.as_ref()?;
                Some(self.declared()?.table(table)?.column(column)?.kind.clone())
            };
            let columns: Vec<FoundColumn> = names
                .into_iter()
                .zip(&origins)
                .map(|(name, origin)| FoundColumn { kind: kind(origin), ..FoundColumn::named(name) })
                .collect();
            head(&columns)?;
            statement.rows().each(|row| {
                let values: Vec<ValueRef<'_>> = (0..row.count()).map(|at| row.value(at)).collect();
                each(&values)
            })
        })
    }

    /// Why a statement cannot be run, and what was probably meant.
    fn what_is_wrong(&self, text: &str, fault: &Fault) -> (String, String) {
        let tables = self.table_names().unwrap_or_default();
        let shows = "`velvet structure FILE` shows the tables and columns";
        let meant =
            |near: Option<&str>| near.map_or_else(|| shows.to_owned(), |near| format!("Did you mean `{near}`?"));
        match &fault.kind {
            FaultKind::NoTable(name) => {
                (format!("there is no table `{name}`"), meant(nearest(name, tables.iter().map(String::as_str))))
            }
            FaultKind::NoColumn(name) => {
                let words: Vec<&str> = text.split(|c: char| !c.is_alphanumeric() && c != '_').collect();
                let is_named = |table: &&String| words.iter().any(|word| word.eq_ignore_ascii_case(table));
                let found = tables.iter().filter(is_named).filter_map(|table| self.exact(table.clone()).ok());
                let columns: Vec<String> = found.flat_map(|table| table.columns).map(|column| column.name).collect();
                let last = name.rsplit('.').next().unwrap_or(name);
                (format!("there is no column `{name}`"), meant(nearest(last, columns.iter().map(String::as_str))))
            }
            _ if fault.message.starts_with("Multiple statements") => {
                ("it is more than one statement".to_owned(), "Run them one by one".to_owned())
            }
            _ => (fault.message.clone(), format!("It must be one statement in SQL that only reads; {shows}")),
        }
    }
}
