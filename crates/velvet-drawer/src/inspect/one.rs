//! One row in full, and what it links to and is linked from.

use super::file::{File, FoundColumn, FoundTable};
use super::forms;
use super::rows::Page;
use crate::engine::EntryKind;
use crate::error::{Cause, Error};
use serde::Serialize;
use velvet_core::schema::structure::{ATTACHMENT, Holds};
use velvet_core::value::name::quoted;
use velvet_core::{Value, ValueRef};

/// One row in full.
#[derive(Clone, Debug, Serialize)]
pub struct OneRow {
    /// Its table.
    #[serde(serialize_with = "forms::table")]
    pub table: FoundTable,
    /// Its row number, where it has one.
    #[serde(rename = "row")]
    pub number: Option<i64>,
    /// Its columns and values.
    #[serde(serialize_with = "forms::row")]
    pub columns: Vec<(FoundColumn, Value)>,
    /// The rows that it links to.
    pub links: Vec<LinkedRow>,
    /// The rows that link to it, by the table and columns that do.
    pub linked_from: Vec<Dependants>,
}

/// A row that another links to.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct LinkedRow {
    /// The columns that link.
    pub columns: Vec<String>,
    /// The table of the linked row.
    pub table: String,
    /// The columns and values by which the linked row is known; nothing where it is not there.
    #[serde(serialize_with = "forms::cells_if_any")]
    pub known_by: Option<Vec<(String, Value)>>,
}

/// Rows of one table that link to another.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Dependants {
    /// Their table.
    pub table: String,
    /// The columns that link.
    pub columns: Vec<String>,
    /// How many there are.
    pub count: u64,
    /// The columns and values by which the first of them are known; at most [`File::DEPENDANTS_NAMED`].
    #[serde(serialize_with = "forms::list_of_cells")]
    pub first: Vec<Vec<(String, Value)>>,
}

/// A link between tables, as the file declares it.
struct Link {
    from: Vec<String>,
    table: String,
    to: Vec<String>,
}

impl File {
    /// How many of the rows that link to one are named.
    pub const DEPENDANTS_NAMED: u64 = 5;

    /// One row in full. `word` is the record's own key, or its row number, with `#` before it where it could be either; in tables of
    /// other programs the primary key, with commas between several columns.
    ///
    /// # Errors
    /// When there is no such row, or the word could mean several ([`Error::is_bad_query`]), and when the file cannot be read.
    ///
    /// ```
    /// use velvet_drawer::inspect::File;
    /// # use velvet_drawer::{Drawer, Key, Record, Schema};
    /// # #[derive(Record)] struct Glaze { #[record(own_key)] name: String }
    /// # #[derive(Record)] struct Piece { #[record(own_key)] mark: String, glaze: Key<Glaze> }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// # let drawer = Drawer::open(&path, Schema::new("kilnbook").record::<Piece>().record::<Glaze>())?;
    /// # let glaze = drawer.insert(Glaze { name: "Celadon".into() })?.key();
    /// # drawer.insert(Piece { mark: "K-1".into(), glaze })?;
    /// let file = File::open(&path)?;
    /// let piece = file.one(&file.table("piece")?, "K-1")?;
    /// assert_eq!(piece.links[0].table, "glaze");
    /// let glaze = file.one(&file.table("glaze")?, "Celadon")?;
    /// assert_eq!(glaze.linked_from[0].count, 1);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn one(&self, table: &FoundTable, word: &str) -> Result<OneRow, Error> {
        if self.is_of_attachments(&table.name) && !word.starts_with('#') {
            let found = self.attachment(word)?;
            return self.one(table, &format!("#{}", found.key));
        }
        let mut ways = Vec::new();
        let number =
            word.strip_prefix('#').unwrap_or(word).parse::<i64>().ok().filter(|_| table.insertion_order.is_some());
        if !word.starts_with('#') {
            let own_key: Vec<String> = self.own_key(&table.name).into_iter().collect();
            let keys = if own_key.is_empty() { self.primary_key(&table.name)? } else { own_key };
            let parts: Vec<&str> = if keys.len() > 1 { word.split(',').map(str::trim).collect() } else { vec![word] };
            if !keys.is_empty() && parts.len() == keys.len() {
                // A number is compared as one, and as text: the file says which of them is stored.
                let is = |column: &String| format!("({0} = ? OR {0} = ?)", quoted(column));
                let condition = keys.iter().map(is).collect::<Vec<_>>().join(" AND ");
                let values = parts.iter().flat_map(|part| [of_number(part), Value::Text((*part).to_owned())]).collect();
                ways.push((condition, values));
            }
        }
        let is_number = format!("{} = ?", table.insertion_order.as_deref().unwrap_or_default());
        ways.extend(number.map(|number| (is_number, vec![Value::Integer(number)])));
        for (condition, values) in ways {
            if let Some((number, columns)) = self.only_row(table, &condition, values, word)? {
                let value = |name: &str| {
                    let found = columns.iter().find(|(c, _): &&(FoundColumn, Value)| c.name == name);
                    found.map_or_else(|| number.into(), |(_, value)| value.clone())
                };
                let links = self.links(&table.name)?;
                let links =
                    links.iter().filter_map(|link| self.linked(link, &value).transpose()).collect::<Result<_, _>>()?;
                let linked_from = self.linking(&table.name, &value)?;
                return Ok(OneRow { table: table.clone(), number, links, linked_from, columns });
            }
        }
        let known_by = self.known_by(table)?.join(", ");
        let error = Error::new(Cause::BadQuery, format!("there is no row {word:?} in `{}`", table.name));
        Err(error.advise(format!("Rows are known by: {known_by}")).in_file(self.path()))
    }

    fn is_of_attachments(&self, table: &str) -> bool {
        table == ATTACHMENT && self.holds(table) == Some(Holds::Attachments)
    }

    /// The columns by which a person knows the rows of a table.
    pub(super) fn known_by(&self, table: &FoundTable) -> Result<Vec<String>, Error> {
        let own_key = self.own_key(&table.name);
        let primary_key = self.primary_key(&table.name)?;
        if let (true, Some(number)) = (primary_key.is_empty(), &table.insertion_order) {
            return Ok(vec![number.clone()]);
        }
        if primary_key.is_empty() {
            return Ok(table.columns.iter().take(1).map(|c| c.name.clone()).collect());
        }
        // What an attachment is called says more than its number.
        let name = own_key.or_else(|| self.is_of_attachments(&table.name).then(|| "name".to_owned()));
        Ok(primary_key.into_iter().chain(name).collect())
    }

    /// As [`File::rows`], with the values of these columns beside each row.
    pub(super) fn each_known(
        &self,
        table: &FoundTable,
        known_by: &[String],
        page: &Page,
        each: &mut dyn FnMut(&[ValueRef<'_>], &[ValueRef<'_>]) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let column = |name: &String| match table.columns.iter().find(|c| c.name == *name) {
            Some(column) => column.clone(),
            None => FoundColumn::named(name.clone()),
        };
        let columns = known_by.iter().map(column).chain(table.columns.iter().cloned()).collect();
        let wide = FoundTable { columns, ..table.clone() };
        self.rows(&wide, page, &mut |row| each(&row[..known_by.len()], &row[known_by.len()..]))
    }

    /// The row that a condition means, and its number.
    #[allow(clippy::type_complexity)]
    fn only_row(
        &self,
        table: &FoundTable,
        condition: &str,
        values: Vec<Value>,
        word: &str,
    ) -> Result<Option<(Option<i64>, Vec<(FoundColumn, Value)>)>, Error> {
        let numbers = table.insertion_order.as_deref().unwrap_or("NULL");
        let found = |without_computed: bool| {
            let name =
                |c: &FoundColumn| if c.is_computed && without_computed { "NULL".into() } else { quoted(&c.name) };
            let names: Vec<String> = table.columns.iter().map(name).collect();
            let of = quoted(&table.name);
            let text = format!("SELECT {numbers}, {} FROM {of} WHERE {condition} LIMIT 2", names.join(", "));
            self.read("cannot read the row", |c| {
                Ok(c.list(&text, values.iter().map(Value::as_ref), |row| -> Vec<Value> {
                    (0..row.count()).map(|at| row.value(at).to_value()).collect()
                })?)
            })
        };
        let found = match found(false) {
            Err(error) if error.is_beyond_bounds() && table.columns.iter().any(|c| c.is_computed) => {
                self.leave_out(&format!("what is computed in `{}`", table.name), &error);
                found(true)
            }
            found => found,
        }?;
        let mut found = found.into_iter();
        let Some(mut row) = found.next() else { return Ok(None) };
        if found.next().is_some() {
            let error = Error::new(Cause::BadQuery, format!("{word:?} is the key of several rows of `{}`", table.name));
            return Err(error.advise("Give a row number, with # before it").in_file(self.path()));
        }
        let number = if let Value::Integer(number) = row.remove(0) { Some(number) } else { None };
        Ok(Some((number, table.columns.iter().cloned().zip(row).collect())))
    }

    pub(super) fn primary_key(&self, table: &str) -> Result<Vec<String>, Error> {
        // A view has none, and working out its columns may take long.
        if self.catalogue()?.iter().any(|e| e.kind == EntryKind::View && e.name == table) {
            return Ok(Vec::new());
        }
        let mut columns = self.read("cannot read the primary key", |c| Ok(c.columns_of(table)?))?;
        columns.retain(|c| c.key_place > 0);
        columns.sort_by_key(|c| c.key_place);
        Ok(columns.into_iter().map(|c| c.name).collect())
    }

    /// The links that a table declares.
    fn links(&self, table: &str) -> Result<Vec<Link>, Error> {
        let mut links: Vec<(i64, Link)> = Vec::new();
        for entry in self.read("cannot read the links", |c| Ok(c.links_of(table)?))? {
            match links.last_mut().filter(|(link, _)| *link == entry.link) {
                Some((_, link)) => {
                    link.from.push(entry.from);
                    link.to.extend(entry.to);
                }
                None => {
                    let (from, to) = (vec![entry.from], entry.to.into_iter().collect());
                    links.push((entry.link, Link { from, table: entry.table, to }));
                }
            }
        }
        for (_, link) in &mut links {
            if link.to.len() != link.from.len() {
                link.to = self.primary_key(&link.table)?;
            }
        }
        Ok(links.into_iter().map(|(_, link)| link).filter(|l| l.to.len() == l.from.len()).collect())
    }

    /// The row that a link leads to; nothing where it leads to none.
    fn linked(&self, link: &Link, value: &dyn Fn(&str) -> Value) -> Result<Option<LinkedRow>, Error> {
        let values: Vec<Value> = link.from.iter().map(|c| value(c)).collect();
        if values.contains(&Value::Missing) {
            return Ok(None);
        }
        let known_by = self.named(&link.table, &link.to, values, 1)?.1.pop();
        Ok(Some(LinkedRow { columns: link.from.clone(), table: link.table.clone(), known_by }))
    }

    fn linking(&self, table: &str, value: &dyn Fn(&str) -> Value) -> Result<Vec<Dependants>, Error> {
        let mut all = Vec::new();
        for other in self.table_names()? {
            for link in self.links(&other)?.into_iter().filter(|l| l.table.eq_ignore_ascii_case(table)) {
                let values = link.to.iter().map(|c| value(c)).collect();
                let (count, first) = self.named(&other, &link.from, values, Self::DEPENDANTS_NAMED)?;
                all.push(Dependants { table: other.clone(), columns: link.from, count, first });
            }
        }
        Ok(all)
    }

    /// How many rows of a table have these values in these columns, and by what the first of them are known.
    #[allow(clippy::type_complexity)]
    fn named(
        &self,
        table: &str,
        columns: &[String],
        values: Vec<Value>,
        most: u64,
    ) -> Result<(u64, Vec<Vec<(String, Value)>>), Error> {
        let Ok(found) = self.exact(table.to_owned()) else { return Ok((0, Vec::new())) };
        let known_by = self.known_by(&found)?;
        let condition = columns.iter().map(|c| format!("{} = ?", quoted(c))).collect::<Vec<_>>().join(" AND ");
        let list = known_by.iter().map(|c| quoted(c)).collect::<Vec<_>>().join(", ");
        let (from, order) =
            (quoted(table), found.insertion_order.as_deref().map(|o| format!(" ORDER BY {o}")).unwrap_or_default());
        self.read("cannot read what is linked", |c| {
            let count = format!("SELECT count(*) FROM {from} WHERE {condition}");
            let first = format!("SELECT {list} FROM {from} WHERE {condition}{order} LIMIT {most}");
            let values = || values.iter().map(Value::as_ref);
            let count = c.one(&count, values(), |row| row.integer(0).unsigned_abs())?.unwrap_or_default();
            let first = c.list(&first, values(), |row| {
                known_by.iter().cloned().zip((0..row.count()).map(|at| row.value(at).to_value())).collect()
            })?;
            Ok((count, first))
        })
    }
}

/// A word as a number, where it is one.
fn of_number(word: &str) -> Value {
    match (word.parse::<i64>(), word.parse::<f64>()) {
        (Ok(whole), _) => Value::Integer(whole),
        (_, Ok(decimal)) => Value::Real(decimal),
        _ => Value::Missing,
    }
}
