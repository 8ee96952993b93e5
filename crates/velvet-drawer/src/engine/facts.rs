//! What the header of a file says, each as a number, and how much space its pages take.

use super::{Connection, Fault, PAGE};

/// The pages of a file.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pages {
    /// How many there are.
    pub(crate) count: u64,
    /// How many of them are unused.
    pub(crate) unused: u64,
    /// How many bytes each has.
    pub(crate) size: u64,
}

impl Connection {
    /// The number by which a program marks its files.
    pub(crate) fn application(&self) -> Result<i64, Fault> {
        self.number("PRAGMA application_id")
    }

    /// Marks the file as one of a program's.
    pub(crate) fn set_application(&self, application: i64) -> Result<(), Fault> {
        self.run(&format!("PRAGMA application_id = {application}"))
    }

    /// The version that the file is at, as its program counts.
    pub(crate) fn version(&self) -> Result<i64, Fault> {
        self.number("PRAGMA user_version")
    }

    /// As [`Connection::version`], for whoever asks often: the statement is kept prepared.
    #[inline]
    pub(crate) fn cached_version(&self) -> Result<i64, Fault> {
        Ok(self.one("PRAGMA user_version", [], |row| row.integer(0))?.unwrap_or_default())
    }

    /// Writes the version, and so the header, also where it is the same.
    pub(crate) fn set_version(&self, version: i64) -> Result<(), Fault> {
        self.run(&format!("PRAGMA user_version = {version}"))
    }

    /// The engine's count of changes of structure.
    pub(crate) fn structure_count(&self) -> Result<i64, Fault> {
        self.number("PRAGMA schema_version")
    }

    /// A number that is another one once any other connection has committed something.
    pub(crate) fn count_of_others(&self) -> Result<i64, Fault> {
        Ok(self.one("PRAGMA data_version", [], |row| row.integer(0))?.unwrap_or_default())
    }

    /// Sets how the texts of a file in which nothing is yet are written, by the engine's name of that.
    pub(crate) fn set_encoding(&self, encoding: &str) -> Result<(), Fault> {
        self.run(&format!("PRAGMA encoding = '{encoding}'"))
    }

    /// How much space the file takes.
    pub(crate) fn pages(&self) -> Result<Pages, Fault> {
        let number = |name: &str| self.number(&format!("PRAGMA {name}")).map(i64::unsigned_abs);
        // The engine says it in another form of an encrypted file.
        let size = if self.cipher.is_some() { PAGE as u64 } else { number("page_size")? };
        Ok(Pages { count: number("page_count")?, unused: number("freelist_count")?, size })
    }
}

/// What ends the statements that a file is made of.
pub(crate) const MADE: &str = "COMMIT;";

/// Statements that mark a file that is made of statements, before the others.
pub(crate) fn marking(application: i64, version: i64) -> String {
    format!(
        "PRAGMA foreign_keys = OFF;\nBEGIN;\nPRAGMA application_id = {application};\nPRAGMA user_version = {version};\n"
    )
}
