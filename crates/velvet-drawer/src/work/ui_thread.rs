//! The thread that draws the screen, which must not wait for a file: calls there that do are reported while developing.
//!
//! ```
//! # use velvet_drawer::{Drawer, Record, Schema, ui_thread};
//! # #[derive(Record)] struct Glaze { name: String }
//! # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
//! // On the thread that draws the screen, when the app starts:
//! ui_thread::declare(|call| eprintln!("{call}"));
//! drawer.count::<Glaze>()?;      // is reported in a debug build, once for this place
//! let count = drawer.later(|d| d.count::<Glaze>());   // is not
//! # drop(count);
//! # Ok::<(), velvet_drawer::Error>(())
//! ```

use super::under_way::{Activity, UnderWay};
use parking_lot::Mutex;
use std::backtrace::Backtrace;
use std::cell::RefCell;
use std::collections::HashSet;
use std::fmt;
use std::sync::LazyLock;
use std::time::{Duration, Instant};

/// A call that kept the thread waiting that draws the screen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BlockingCall {
    /// What was called, such as `Records::collect`, where the system tells.
    pub call: Option<String>,
    /// Where in the app's code, as file and line, where the system tells.
    pub at: Option<String>,
    /// How long it took.
    pub took: Duration,
}

impl fmt::Display for BlockingCall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let BlockingCall { call, at, took } = self;
        write!(f, "the UI's thread waited {took:.1?} for {}", call.as_deref().unwrap_or("a drawer"))?;
        if let Some(at) = at {
            write!(f, ", at {at}")?;
        }
        f.write_str("; Drawer::later and watch do not keep it waiting")
    }
}

type OnBlockingCall = Box<dyn Fn(&BlockingCall)>;

thread_local! {
    static REPORT: RefCell<Option<OnBlockingCall>> = const { RefCell::new(None) };
}

/// Declares the thread that calls this as the one that draws the screen. In debug builds, each call there that waits for a drawer is handed to
/// `report`, once for each place in the app's code; in others, nothing is done.
pub fn declare(report: impl Fn(&BlockingCall) + 'static) {
    REPORT.set(Some(Box::new(report)));
}

/// Reports that this thread waited, when it is dropped.
pub(crate) struct Watched {
    begun: Instant,
    _under_way: UnderWay,
}

/// Watches a call that waits; nothing where that may be.
#[inline]
pub(crate) fn watched() -> Option<Watched> {
    let is_ui = cfg!(debug_assertions) && REPORT.with_borrow(Option::is_some);
    (is_ui && !Activity::Waiting.is_under_way())
        .then(|| Watched { begun: Instant::now(), _under_way: Activity::Waiting.begin() })
}

impl Drop for Watched {
    fn drop(&mut self) {
        let took = self.begun.elapsed();
        static SEEN: LazyLock<Mutex<HashSet<Option<String>>>> = LazyLock::new(Mutex::default);
        let (call, at) = called(&Backtrace::force_capture().to_string());
        if !SEEN.lock().insert(at.clone()) {
            return;
        }
        // What reports may itself use the drawer.
        let Some(report) = REPORT.take() else { return };
        report(&BlockingCall { call, at, took });
        REPORT.set(Some(report));
    }
}

/// The outermost call of the library's in a backtrace, and where the app made it.
fn called(trace: &str) -> (Option<String>, Option<String>) {
    let is_ours = |symbol: &str| {
        let symbol = symbol.trim_start_matches('<');
        symbol.starts_with("velvet_drawer::") || symbol.starts_with("velvet_core::")
    };
    let of_language = |symbol: &str| {
        let symbol = symbol.trim_start_matches('<');
        ["core::", "std::", "alloc::"].iter().any(|own| symbol.starts_with(own))
    };
    let (mut call, mut place) = (None, None);
    let mut lines = trace.lines().map(str::trim).peekable();
    while let Some(line) = lines.next() {
        let Some((number, symbol)) = line.split_once(": ") else { continue };
        if number.parse::<u32>().is_err() {
            continue;
        }
        let at = lines.peek().and_then(|next| next.strip_prefix("at "));
        // Between the library's own calls there may be those of packages that it uses. One that the compiler put into another has no path in its name.
        let in_file = at.and_then(in_own_source);
        if is_ours(symbol) || in_file.is_some() {
            let own = is_ours(symbol).then(|| short(symbol));
            call = own.or_else(|| Some(format!("{}::{}", in_file?, short(symbol))));
            place = None;
        } else if call.is_some()
            && place.is_none()
            && !of_language(symbol)
            && !at.is_some_and(|at| at.contains("/rustc/"))
        {
            place = at.map(|at| at.trim_start_matches("./").rsplit_once(':').map_or(at, |(place, _)| place).to_owned());
        }
    }
    (call, place)
}

/// The name of the library's file in which a place in a backtrace is, if it is in one.
fn in_own_source(at: &str) -> Option<String> {
    let (file, _) = at.rsplit_once(':').and_then(|(at, _)| at.rsplit_once(':'))?;
    let file = std::env::current_dir().ok()?.join(file.trim_start_matches("./"));
    let is_own = file.starts_with(concat!(env!("CARGO_MANIFEST_DIR"), "/src"));
    is_own.then(|| file.file_stem().map(|stem| stem.to_string_lossy().into_owned()))?
}

/// `Records::collect` of `velvet_drawer::query::records::Records<T,A>::collect`, and `Drawer::insert` of
/// `velvet_drawer::records::insert::<impl velvet_drawer::drawer::Drawer>::insert`.
fn short(symbol: &str) -> String {
    if symbol.ends_with("Drop>::drop") {
        return "Drawer::drop".to_owned();
    }
    if let Some((_, (of, method))) = symbol.split_once("<impl ").and_then(|(a, b)| Some((a, b.rsplit_once(">::")?))) {
        return short(&format!("{of}::{method}"));
    }
    let mut plain = String::new();
    let mut depth = 0_u32;
    for sign in symbol.trim_start_matches('<').chars() {
        match sign {
            '<' => depth += 1,
            '>' => depth = depth.saturating_sub(1),
            sign if depth == 0 => plain.push(sign),
            _ => {}
        }
    }
    let parts: Vec<&str> = plain.split("::").filter(|part| !part.is_empty() && !part.starts_with('{')).collect();
    let is_hash = |part: &&str| part.len() == 17 && part.starts_with('h');
    let parts: Vec<&str> = parts.into_iter().filter(|part| !is_hash(part)).collect();
    parts[parts.len().saturating_sub(2)..].join("::")
}

#[cfg(test)]
mod tests {
    use super::called;

    #[test]
    fn the_outermost_call_of_ours_and_its_place_are_found() {
        let trace =
            "   0: std::backtrace::Backtrace::force_capture\n             at /rustc/1/library/std/src/backtrace.rs:1:2
   1: <velvet_drawer::work::ui_thread::Watched as core::ops::drop::Drop>::drop\n             at ./crates/x.rs:60:5
   2: core::ptr::drop_in_place<core::option::Option<velvet_drawer::work::ui_thread::Watched>>
   3: velvet_drawer::drawer::inner::Inner::reading\n             at ./crates/y.rs:1:1
   4: velvet_drawer::query::records::Records<T,A>::collect::h0123456789abcdef\n             at ./crates/z.rs:120:9
   5: kiln_app::screen::draw::{{closure}}\n             at ./app/screen.rs:40:17
   6: core::ops::function::FnOnce::call_once\n             at /rustc/1/library/core/src/ops/function.rs:250:5";
        assert_eq!(called(trace), (Some("Records::collect".into()), Some("app/screen.rs:40".into())));
        let on_drawer =
            "velvet_drawer::records::insert::<impl velvet_drawer::drawer::Drawer>::insert::h0123456789abcdef";
        assert_eq!(super::short(on_drawer), "Drawer::insert");
        assert_eq!(called("   0: main\n"), (None, None));
    }
}
