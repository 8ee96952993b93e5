//! How much a command may take: until Ctrl-C, and as long as what a file defines may.

use std::process;
use std::sync::OnceLock;
use std::thread;
use std::time::Duration;
use velvet_drawer::inspect::Limits;

/// The exit code of what was ended by Ctrl-C, as shells have it.
pub(crate) const ENDED: u8 = 130;

/// How long to wait after Ctrl-C until what is running has put all back.
const PATIENCE: Duration = Duration::from_secs(5);

static LIMITS: OnceLock<Limits> = OnceLock::new();

/// The limits of this command.
pub(crate) fn limits() -> &'static Limits {
    LIMITS.get_or_init(Limits::default)
}

/// Allows what a file defines this many seconds, where that is said.
pub(crate) fn allow(seconds: Option<u64>) {
    let usual = Limits::default();
    let within = seconds.map_or(usual.within, Duration::from_secs);
    // It is said once, before anything looks.
    let _ = LIMITS.set(Limits { within, ..usual });
}

/// Ends the command at Ctrl-C: by itself, so that nothing is left half done or in a temporary folder; at the second one, or where that takes
/// too long, at once.
pub(crate) fn end_at_ctrl_c() {
    let set = ctrlc::set_handler(|| {
        if limits().cancel.is_cancelled() {
            process::exit(ENDED.into());
        }
        limits().cancel.cancel();
        thread::spawn(|| {
            thread::sleep(PATIENCE);
            process::exit(ENDED.into());
        });
    });
    // Without a handler, Ctrl-C ends it at once.
    let _ = set;
}
