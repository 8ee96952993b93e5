//! The pages of a damaged file, with those of the write-ahead log beside it.

use crate::device::companions::COMPANIONS;
use crate::engine::{FileCipher, PAGE, PastEngine, known};
use crate::inspect::as_one::not_as_one;
use std::collections::{HashMap, HashSet};
use std::fs;
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::Arc;
use velvet_core::file::b_tree::{self, Layout};
use velvet_core::file::header::Header;
use velvet_core::file::wal::{self, Frame};

/// The pages of a file.
pub(super) struct PageSource {
    file: fs::File,
    log: Option<fs::File>,
    /// The key of the file, where it is encrypted.
    pub(super) cipher: Option<Arc<FileCipher>>,
    /// Where in the write-ahead log the newest form of a page is.
    newer: HashMap<u32, u64>,
    pub(super) layout: Layout,
    /// How many pages there are.
    pub(super) pages: u32,
    /// What the file begins with.
    pub(super) header: Header,
    first_unused: u32,
    /// Why the write-ahead log was left out, where it was.
    pub(super) left_out: Option<String>,
    /// Whether a row went on in a page of nothing but zeros since this was last asked. What stood there may be lost.
    pub(super) met_zeros: bool,
    _past_engine: PastEngine,
}

impl PageSource {
    /// Opens a file that this process does not have open otherwise. Nothing where it is no database at all.
    pub(super) fn open(path: &Path) -> io::Result<Option<PageSource>> {
        let (cipher, left_out) = (known(path), not_as_one(path));
        let Some(past_engine) = PastEngine::begin(path) else { return Ok(None) };
        let mut file = fs::File::open(path)?;
        let length = file.metadata()?.len();
        let mut first = vec![0; if cipher.is_some() { PAGE } else { Header::BYTES }];
        if file.read_exact(&mut first).is_err() {
            return Ok(None);
        }
        // Without the first page nothing of the others is found. What is made up in it are names of tables, and where they begin.
        if let Some(cipher) = cipher.as_ref().filter(|cipher| !cipher.open(1, &mut first)) {
            cipher.open_unproven(1, &mut first);
        }
        let Some(mut start) = first.first_chunk::<{ Header::BYTES }>().copied() else { return Ok(None) };
        let (Some(layout), Some(header)) = (Layout::read(&start), Header::read(&start, length)) else {
            return Ok(None);
        };
        let pages = header.pages_there;
        let newer = HashMap::new();
        let _past_engine = past_engine;
        let mut source = PageSource {
            file,
            log: None,
            cipher,
            newer,
            layout,
            pages,
            header,
            first_unused: 0,
            left_out,
            met_zeros: false,
            _past_engine,
        };
        let mut beside = path.as_os_str().to_owned();
        beside.push(COMPANIONS[0]);
        if let (Ok(log), None) = (fs::File::open(&beside), &source.left_out) {
            source.read_log(log)?;
        }
        if let Some(first) = source.page(1) {
            start.copy_from_slice(&first[..Header::BYTES]);
        }
        source.header = Header::read(&start, length).unwrap_or(source.header);
        source.first_unused = u32::from_be_bytes([start[32], start[33], start[34], start[35]]);
        Ok(Some(source))
    }

    fn read_log(&mut self, log: fs::File) -> io::Result<()> {
        let frames = wal::frames(&mut BufReader::new(log.try_clone()?), self.header.page_size)?;
        let Some(frames) = frames else { return Ok(()) };
        let mut unfinished = Vec::new();
        for Frame { page, at, commit } in frames {
            unfinished.push((page, at));
            if let Some(pages) = commit {
                self.newer.extend(unfinished.drain(..));
                self.pages = pages;
            }
        }
        self.log = Some(log);
        Ok(())
    }

    /// A page, counted from 1; nothing where it is not there.
    pub(super) fn page(&mut self, number: u32) -> Option<Vec<u8>> {
        let size = self.layout.page_size as u64;
        let (file, at) = match (self.newer.get(&number), &mut self.log) {
            (Some(at), Some(log)) => (log, *at),
            _ if number == 0 || number > self.pages => return None,
            _ => (&mut self.file, u64::from(number - 1) * size),
        };
        let mut page = vec![0; self.layout.page_size];
        file.seek(SeekFrom::Start(at)).ok()?;
        file.read_exact(&mut page).ok()?;
        // What does not open is damaged, and what is read of it would be made up.
        let is_open = self.cipher.as_ref().is_none_or(|cipher| cipher.open(number, &mut page));
        if let Some(cipher) = self.cipher.as_ref().filter(|_| !is_open && number == 1) {
            cipher.open_unproven(1, &mut page);
            return Some(page);
        }
        is_open.then_some(page)
    }

    /// The whole of a row that goes on in other pages.
    pub(super) fn row(&mut self, page: &[u8], cell: &b_tree::Cell) -> Option<Vec<u8>> {
        if cell.total as u64 > u64::from(self.pages) * self.layout.page_size as u64 {
            return None;
        }
        let mut row = page.get(cell.here.clone())?.to_vec();
        let (mut next, mut left) = (cell.rest, self.pages);
        while row.len() < cell.total {
            left = left.checked_sub(1)?;
            let page = self.page(next.filter(|n| *n != 0)?)?;
            self.met_zeros |= page.iter().all(|byte| *byte == 0);
            let (following, bytes) = b_tree::rest(&page, &self.layout)?;
            let wanted = (cell.total - row.len()).min(bytes.len());
            row.extend_from_slice(&bytes[..wanted]);
            next = Some(following);
        }
        Some(row)
    }

    /// The pages that are in no use: what stands there was removed.
    pub(super) fn unused(&mut self) -> HashSet<u32> {
        let mut all = HashSet::new();
        let mut next = self.first_unused;
        while next != 0 && all.insert(next) {
            let Some(page) = self.page(next) else { break };
            let Some((following, named)) = b_tree::unused(&page, &self.layout) else { break };
            all.extend(named);
            next = following;
        }
        all
    }
}
