//! Any statement that only reads.

use super::file::{File, FoundColumn};
use crate::engine::FaultKind;
use crate::error::{Cause, Error};
use velvet_core::ValueRef;

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
                    let advice = "It is one statement in SQL; `velvet structure` shows the tables and columns";
                    return refused(&fault.message, advice);
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
}
