//! A stand-in for the studio's supplier: it sends its catalogue as JSON Lines to whoever connects, on the loopback address.

use crate::kilnbook::version_1::Article;
use crate::samples;
use serde::{Deserialize, Serialize};
use std::io::{self, BufRead, BufReader, BufWriter, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::thread;

/// A line of the catalogue.
#[derive(Serialize, Deserialize)]
struct Line {
    number: String,
    name: String,
    cents: u32,
    in_stock: bool,
}

/// The supplier, who sends the catalogue of the day for as long as the program runs.
pub struct Supplier {
    address: SocketAddr,
    day: Arc<AtomicU32>,
}

impl Supplier {
    /// Opens the shop, on its first day.
    ///
    /// # Errors
    /// When the loopback address cannot be listened on.
    pub fn open() -> io::Result<Supplier> {
        let listener = TcpListener::bind(("127.0.0.1", 0))?;
        let address = listener.local_addr()?;
        let day = Arc::new(AtomicU32::new(1));
        let today = Arc::clone(&day);
        thread::spawn(move || {
            for customer in listener.incoming().flatten() {
                // A customer who goes away in the middle is none of the supplier's trouble.
                let _ = send(customer, today.load(Ordering::Relaxed));
            }
        });
        Ok(Supplier { address, day })
    }

    /// The next day: some prices have changed, some articles are new, and some are no longer sold.
    pub fn next_day(&self) {
        self.day.fetch_add(1, Ordering::Relaxed);
    }

    /// Downloads the catalogue of the day.
    ///
    /// # Errors
    /// When the connection fails, or a line is none of the catalogue's, with its number.
    ///
    /// ```
    /// let supplier = velvet_demo::supplier::Supplier::open()?;
    /// assert_eq!(supplier.catalogue()?.len(), 4_800);
    /// # Ok::<(), std::io::Error>(())
    /// ```
    pub fn catalogue(&self) -> io::Result<Vec<Article>> {
        let lines = BufReader::new(TcpStream::connect(self.address)?).lines();
        lines
            .enumerate()
            .map(|(at, line)| {
                let Line { number, name, cents, in_stock } = serde_json::from_str(&line?).map_err(|error| {
                    io::Error::new(io::ErrorKind::InvalidData, format!("line {} of the catalogue: {error}", at + 1))
                })?;
                Ok(Article { number, name, cents, in_stock })
            })
            .collect()
    }
}

fn send(customer: TcpStream, day: u32) -> io::Result<()> {
    let mut out = BufWriter::new(customer);
    for (n, article) in (0_u32..).zip(samples::articles()) {
        let Article { number, name, cents, in_stock } = article;
        let later = day - 1;
        if n % 960 == 17 && later > 0 {
            continue;
        }
        let number = if n % 800 == 5 && later > 0 { format!("new-{number}") } else { number };
        let cents = if n % 100 == 3 { cents + 10 * later } else { cents };
        serde_json::to_writer(&mut out, &Line { number, name, cents, in_stock })?;
        out.write_all(b"\n")?;
    }
    out.flush()
}
