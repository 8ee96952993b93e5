//! The statements about the parts in which the contents of attachments are kept.
//!
//! A content has the number of the attachment that was first stored with it, and its parts have keys in a range of their own, so they are found by those
//! alone.

use crate::schema::structure::{ATTACHMENT, ATTACHMENT_PART, Structure, Table};
use crate::value::name::{KEY_COLUMN, quoted};

/// How many bytes a part has; the last may have fewer.
pub const PART: usize = 256 << 10;

/// How many parts a content may have, as a power of two.
const PARTS: u32 = 20;

/// The key of a part of a content; nothing where there can be no such part.
pub fn part_key(content: i64, number: u64) -> Option<i64> {
    let number = i64::try_from(number).ok().filter(|number| *number < 1 << PARTS)?;
    let first = content.checked_mul(1 << PARTS).filter(|_| content > 0)?;
    first.checked_add(number)
}

/// The keys of the first and the last part that a content may have; nothing where there can be no such content.
pub fn part_keys(content: i64) -> Option<[i64; 2]> {
    Some([part_key(content, 0)?, part_key(content, (1 << PARTS) - 1)?])
}

/// Inserts a part: its key, its content, its number, its bytes.
pub const INSERT_PART: &str = "INSERT INTO attachment_part (key, content, number, bytes) VALUES (?1, ?2, ?3, ?4)";

/// Inserts an attachment under a key: its key, name, media type, bytes, hash, content.
pub const INSERT_ATTACHMENT: &str =
    "INSERT INTO attachment (key, name, media_type, bytes, hash, content) VALUES (?1, ?2, ?3, ?4, ?5, ?6)";

/// Reads the bytes of the part with a key.
pub const GET_PART: &str = "SELECT bytes FROM attachment_part WHERE key = ?1";

/// Reads the parts with keys from one to another: the key, then the bytes.
pub const PARTS_BETWEEN: &str = "SELECT key, bytes FROM attachment_part WHERE key BETWEEN ?1 AND ?2 ORDER BY key";

/// Removes at most so many parts with keys from one to another.
pub const REMOVE_PARTS: &str =
    "DELETE FROM attachment_part WHERE key IN (SELECT key FROM attachment_part WHERE key BETWEEN ?1 AND ?2 LIMIT ?3)";

/// Reads the content of an attachment with a hash.
pub const CONTENT_WITH_HASH: &str = "SELECT content FROM attachment WHERE hash = ?1 LIMIT 1";

/// Reads the contents that have parts and no attachment. Behind the greatest there can be, it must not begin again.
pub const CONTENTS_OF_NONE: &str = "WITH RECURSIVE stored (nr) AS (\
     SELECT (SELECT min(key) >> 20 FROM attachment_part) UNION ALL \
     SELECT (SELECT min(key) >> 20 FROM attachment_part WHERE key >= (nr + 1) << 20) FROM stored WHERE nr < (1 << 43) - 1) \
     SELECT nr FROM stored WHERE nr IS NOT NULL AND NOT EXISTS (SELECT 1 FROM attachment WHERE attachment.content = nr)";

const _: () = assert!(PARTS == 20, "the statements above say it too");

const TRIGGER: &str = "velvet_attachment_delete";

/// The statements that make the parts of a content go with its last attachment; none for another table.
pub(crate) fn create_attachments(structure: &Structure, table: &Table) -> Vec<String> {
    if table.name != ATTACHMENT || structure.table(ATTACHMENT_PART).is_none() {
        return Vec::new();
    }
    let key = quoted(KEY_COLUMN);
    vec![format!(
        "CREATE TRIGGER {TRIGGER} AFTER DELETE ON {ATTACHMENT} BEGIN DELETE FROM {ATTACHMENT_PART} WHERE {key} >= old.content << {PARTS} \
         AND {key} < (old.content + 1) << {PARTS} AND content = old.content AND NOT EXISTS (SELECT 1 FROM {ATTACHMENT} WHERE content = old.content); END"
    )]
}

/// The statements that end that.
pub(crate) fn drop_attachments(table: &str) -> Vec<String> {
    if table == ATTACHMENT { vec![format!("DROP TRIGGER IF EXISTS {TRIGGER}")] } else { Vec::new() }
}
