//! What was read of tables and is kept in memory until they are written to.

use super::Inner;
use crate::engine::Written;
use std::any::{Any, TypeId};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// How long to go by memory before looking whether others wrote, where a drawer is only read.
const READERS_LOOK: Duration = Duration::from_millis(50);

/// What is kept.
#[derive(Default)]
pub(super) struct Cache {
    kept: parking_lot::Mutex<Vec<Kept>>,
    shared: Arc<CachedTables>,
}

struct Kept {
    of: TypeId,
    belongs_to: Box<str>,
    /// What was counted before it was read.
    read_at: u64,
    value: Arc<dyn Any + Send + Sync>,
}

#[derive(Default)]
struct CachedTables {
    /// The tables of which something is kept.
    tables: parking_lot::Mutex<Vec<&'static str>>,
    /// How often any of them was written.
    writes: AtomicU64,
    others: parking_lot::Mutex<Others>,
}

/// When it was last looked whether others wrote, and what their count was then.
#[derive(Default)]
struct Others {
    looked: Option<Instant>,
    count: Option<i64>,
}

impl Kept {
    /// Whether it is of this type, belongs to this one, and was read at this count.
    #[inline]
    fn is(&self, of: TypeId, belongs_to: &str, read_at: u64) -> bool {
        // Comparing nothing with nothing byte by byte takes longer than all the rest.
        let is_theirs =
            || if belongs_to.is_empty() { self.belongs_to.is_empty() } else { *self.belongs_to == *belongs_to };
        self.read_at == read_at && self.of == of && is_theirs()
    }
}

impl CachedTables {
    fn heard(&self, written: &[Written]) {
        let tables = self.tables.lock();
        let is_kept = |written: &Written| tables.iter().any(|table| written.table.eq_ignore_ascii_case(table));
        if written.iter().any(|written| !written.is_nothing() && is_kept(written)) {
            self.writes.fetch_add(1, Ordering::Release);
        }
    }
}

impl Inner {
    /// What was read before of a type, and belongs to somebody; or what `read` reads of `tables`, which is kept.
    pub(crate) fn cache<R: Any + Send + Sync, E>(
        &self,
        tables: &[&'static str],
        belongs_to: &str,
        read: impl FnOnce() -> Result<R, E>,
    ) -> Result<Arc<R>, E> {
        self.look_at_others();
        let Cache { kept, shared } = &self.cache;
        let read_at = shared.writes.load(Ordering::Acquire);
        let of = TypeId::of::<R>();
        {
            let kept = kept.lock();
            let found = kept.iter().find(|kept| kept.is(of, belongs_to, read_at));
            if let Some(Ok(value)) = found.map(|k| Arc::clone(&k.value).downcast::<R>()) {
                return Ok(value);
            }
        }
        let is_heard_of = tables.iter().all(|table| self.hears_of(table));
        let value = Arc::new(read()?);
        if is_heard_of {
            let mut kept = kept.lock();
            kept.retain(|k| !(k.of == of && *k.belongs_to == *belongs_to));
            let value: Arc<dyn Any + Send + Sync> = Arc::clone(&value) as _;
            kept.push(Kept { of, belongs_to: belongs_to.into(), read_at, value });
        }
        Ok(value)
    }

    /// Whether it is heard of what is written to a table from now on.
    fn hears_of(&self, table: &'static str) -> bool {
        let mut tables = self.cache.shared.tables.lock();
        if tables.contains(&table) {
            return true;
        }
        if tables.is_empty() {
            let shared = Arc::clone(&self.cache.shared);
            // Where a thread is writing just now, nothing is kept yet.
            if !matches!(self.pool().listen(move |written| shared.heard(written)), Some(Ok(()))) {
                return false;
            }
        }
        tables.push(table);
        true
    }

    /// Forgets what is kept where others have written, as far as they are looked at.
    #[inline]
    fn look_at_others(&self) {
        let within = if self.in_effect.read_only { Some(READERS_LOOK) } else { self.in_effect.others_within };
        if let Some(within) = within {
            self.look_at_others_within(within);
        }
    }

    fn look_at_others_within(&self, within: Duration) {
        let shared = &self.cache.shared;
        let mut others = shared.others.lock();
        if others.looked.is_some_and(|looked| looked.elapsed() < within) {
            return;
        }
        // Where a thread is writing just now, it is looked at the next time.
        let Some(count) = self.pool().count_of_others() else { return };
        others.looked = Some(Instant::now());
        let count = count.ok();
        if count.is_none() || others.count != count {
            others.count = count;
            shared.writes.fetch_add(1, Ordering::Release);
        }
    }

    /// Forgets all that is kept.
    pub(super) fn forget_cached(&self) {
        self.cache.kept.lock().clear();
        *self.cache.shared.others.lock() = Others::default();
    }
}
