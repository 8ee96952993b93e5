//! The pages of a damaged file, with those of the log beside it.

use crate::engine::COMPANIONS;
use crate::inspect::complete::not_as_one;
use std::collections::{HashMap, HashSet};
use std::fs;
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::Path;
use velvet_core::log::{self, FRAME, HEAD};
use velvet_core::pages::{self, Layout};

/// The pages of a file.
pub(super) struct Source {
    file: fs::File,
    log: Option<fs::File>,
    /// Where in the log the newest form of a page is.
    newer: HashMap<u32, u64>,
    pub(super) layout: Layout,
    /// How many pages there are.
    pub(super) pages: u32,
    /// What the file begins with.
    pub(super) header: [u8; 100],
    /// Why the log was left out, where it was.
    pub(super) left_out: Option<String>,
}

impl Source {
    /// Opens a file that this process does not have open otherwise. Nothing where it is no database at all.
    pub(super) fn open(path: &Path) -> io::Result<Option<Source>> {
        let mut file = fs::File::open(path)?;
        let mut header = [0; 100];
        if file.read_exact(&mut header).is_err() {
            return Ok(None);
        }
        let Some(layout) = Layout::read(&header) else { return Ok(None) };
        let pages = u32::try_from(file.metadata()?.len() / layout.page_size as u64).unwrap_or(u32::MAX);
        let mut source = Source { file, log: None, newer: HashMap::new(), layout, pages, header, left_out: None };
        let mut beside = path.as_os_str().to_owned();
        beside.push(COMPANIONS[0]);
        source.left_out = not_as_one(path);
        if let (Ok(log), None) = (fs::File::open(&beside), &source.left_out) {
            source.read_log(log)?;
        }
        if let Some(first) = source.page(1) {
            source.header.copy_from_slice(&first[..100]);
        }
        Ok(Some(source))
    }

    fn read_log(&mut self, log: fs::File) -> io::Result<()> {
        let mut reader = BufReader::new(log.try_clone()?);
        let (mut head, mut frame) = ([0; HEAD], [0; FRAME]);
        if reader.read_exact(&mut head).is_err() {
            return Ok(());
        }
        let size = self.layout.page_size as u64;
        let head = log::Head::read(&head).filter(|head| u64::from(head.page_size) == size);
        let Some(head) = head else { return Ok(()) };
        let (mut at, mut unfinished) = (HEAD as u64, Vec::new());
        let length = log.metadata()?.len();
        while at + FRAME as u64 + size <= length && reader.read_exact(&mut frame).is_ok() {
            let Some((page, commit)) = head.frame(&frame) else { break };
            unfinished.push((page, at + FRAME as u64));
            if let Some(pages) = commit {
                self.newer.extend(unfinished.drain(..));
                self.pages = pages;
            }
            at += FRAME as u64 + size;
            reader.seek_relative(size as i64)?;
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
        Some(page)
    }

    /// The whole of a row that goes on in other pages.
    pub(super) fn row(&mut self, page: &[u8], cell: &pages::Cell) -> Option<Vec<u8>> {
        if cell.total as u64 > u64::from(self.pages) * self.layout.page_size as u64 {
            return None;
        }
        let mut row = page.get(cell.here.clone())?.to_vec();
        let (mut next, mut left) = (cell.rest, self.pages);
        while row.len() < cell.total {
            left = left.checked_sub(1)?;
            let page = self.page(next.filter(|n| *n != 0)?)?;
            let (following, bytes) = pages::rest(&page, &self.layout)?;
            let wanted = (cell.total - row.len()).min(bytes.len());
            row.extend_from_slice(&bytes[..wanted]);
            next = Some(following);
        }
        Some(row)
    }

    /// The pages that are in no use: what stands there was removed.
    pub(super) fn unused(&mut self) -> HashSet<u32> {
        let mut all = HashSet::new();
        let mut next = u32::from_be_bytes([self.header[32], self.header[33], self.header[34], self.header[35]]);
        while next != 0 && all.insert(next) {
            let Some(page) = self.page(next) else { break };
            let Some((following, named)) = pages::unused(&page, &self.layout) else { break };
            all.extend(named);
            next = following;
        }
        all
    }
}
