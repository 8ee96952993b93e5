//! Giving each write of ours its number in the trail, and keeping the trail within its bound.

use crate::bookkeeping::sessions::Recorder;
use crate::device::clock::Clock;
use crate::engine::{Connection, Fault, Moment, Participant};
use std::sync::Arc;
use std::time::Duration;
use velvet_core::statement::{TRAIL, WRITES, WRITING};

/// How many writes there are between two looks at how old the entries are.
const WRITES_BETWEEN: i64 = 256;

/// How many seconds count at most between two entries: an app that is not used, or a clock that jumps ahead, makes nothing old.
const MOST_AT_ONCE: i64 = 7 * 24 * 60 * 60;

/// Keeps the trails of an open drawer.
pub(crate) struct Keeping {
    entries: i64,
    age: Duration,
    clock: Clock,
    session: Option<Arc<Recorder>>,
    begin: String,
    end: [String; 2],
    count: String,
}

impl Keeping {
    pub(crate) fn new(entries: u64, age: Duration, clock: Clock, session: Option<Arc<Recorder>>) -> Keeping {
        Keeping {
            entries: i64::try_from(entries).unwrap_or(i64::MAX),
            age,
            clock,
            session,
            begin: format!("UPDATE {WRITING} SET write = 1 + coalesce((SELECT max(write) FROM {WRITES}), 0)"),
            // A write that left no entry needs no number.
            end: [
                format!(
                    "INSERT INTO {WRITES} (write, session, at) SELECT write, ?1, ?2 FROM {WRITING} \
                     WHERE write = (SELECT write FROM {TRAIL} ORDER BY entry DESC LIMIT 1)"
                ),
                format!("UPDATE {WRITING} SET write = NULL"),
            ],
            count: format!(
                "SELECT coalesce((SELECT max(entry) FROM {TRAIL}) - (SELECT min(entry) FROM {TRAIL}), 0), \
                 coalesce((SELECT max(write) FROM {WRITES}), 0)"
            ),
        }
    }

    fn trim(&self, connection: &Connection) -> Result<(), Fault> {
        let counts = connection.one(&self.count, [], |row| (row.integer(0) + 1, row.integer(1)))?;
        let (entries, writes) = counts.unwrap_or_default();
        let too_many = entries > self.entries.saturating_add(self.entries / 8);
        let looks = writes % WRITES_BETWEEN == 0;
        if too_many {
            let keeps = format!("DELETE FROM {TRAIL} WHERE entry <= (SELECT max(entry) FROM {TRAIL}) - ?1");
            connection.execute(&keeps, [self.entries.into()])?;
        }
        if looks {
            // Age is counted from entry to entry, because the clock may be wrong for once.
            let young = format!(
                "DELETE FROM {TRAIL} WHERE entry <= coalesce((SELECT max(entry) FROM (SELECT entry, sum(step) OVER (ORDER BY entry DESC) AS age FROM \
                 (SELECT t.entry, min(max(coalesce(unixepoch(lead(coalesce(w.at, t.write)) OVER (ORDER BY t.entry)) \
                 - unixepoch(coalesce(w.at, t.write)), 0), 0), {MOST_AT_ONCE}) AS step \
                 FROM {TRAIL} AS t LEFT JOIN {WRITES} AS w ON w.write = t.write)) WHERE age > ?1), 0)"
            );
            connection.execute(&young, [i64::try_from(self.age.as_secs()).unwrap_or(i64::MAX).into()])?;
        }
        if too_many || looks {
            // The last one stays, so that its number is not given again.
            let unused = format!(
                "DELETE FROM {WRITES} WHERE write < min((SELECT max(write) FROM {WRITES}), \
                 coalesce((SELECT write FROM {TRAIL} WHERE typeof(write) = 'integer' ORDER BY entry LIMIT 1), ?1))"
            );
            connection.execute(&unused, [i64::MAX.into()])?;
        }
        Ok(())
    }
}

impl Participant for Keeping {
    fn doing(&self, at: Moment) -> &'static str {
        match at {
            Moment::Prepares => "cannot begin the session",
            Moment::Begins => "cannot begin the trail of a write",
            Moment::Ends => "cannot keep the trail of a write",
        }
    }

    /// The entries name the session, so it has to be in the file.
    fn prepares(&self, connection: &Connection) -> Result<(), Fault> {
        self.session.as_ref().map_or(Ok(()), |session| session.number(connection).map(drop))
    }

    fn begins(&self, connection: &Connection) -> Result<(), Fault> {
        connection.execute(&self.begin, []).map(drop)
    }

    fn ends(&self, connection: &Connection) -> Result<(), Fault> {
        let [note, ended] = &self.end;
        let now = format!("{:.9}", self.clock.now());
        let session = self.session.as_ref().map(|session| session.number(connection)).transpose()?;
        if connection.execute(note, [session.into(), (&now).into()])? > 0 {
            self.trim(connection)?;
        }
        connection.execute(ended, []).map(drop)
    }
}
