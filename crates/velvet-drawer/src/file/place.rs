//! The right folders for an app's data on each platform.
//!
//! On Linux, macOS, iOS and Windows they follow from the system's own rules. On Android only the app knows its folders:
//! hand them in once with [`hand_in`], before the first drawer is opened. That works everywhere, also for tests.
//!
//! ```
//! use velvet_drawer::place;
//! let path = place::durable("kilnbook")?.join("kiln.drawer");
//! # Ok::<(), velvet_drawer::Error>(())
//! ```

use crate::device::temporary;
use crate::error::{Cause, Error};
use std::path::{Component, Path, PathBuf};
use std::sync::OnceLock;

/// An app's folders.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Folders {
    /// Kept, and part of the phone's backup.
    pub durable: PathBuf,
    /// Removed by the system when it needs the space.
    pub cache: PathBuf,
    /// Removed by the system at any time between two starts of the app. The library's own temporary files go there too.
    pub temporary: PathBuf,
}

static HANDED_IN: OnceLock<Folders> = OnceLock::new();

/// Hands in the folders that only the app knows.
///
/// # Errors
/// When others were handed in before; those stay.
pub fn hand_in(folders: Folders) -> Result<(), Error> {
    let held = HANDED_IN.get_or_init(|| folders.clone());
    if *held == folders {
        temporary::hand_in(&folders.temporary);
        return Ok(());
    }
    Err(Error::new(Cause::InUse, format!("other folders were handed in before: {held:?}"))
        .untouched("Those stay in use")
        .advise("Hand in an app's folders once, when it starts"))
}

/// The folder for data that exists nowhere else, of the app with this name.
///
/// # Errors
/// When the system does not say, and no folders were handed in; and when the name is none, or leads elsewhere, such as `..`.
pub fn durable(app: &str) -> Result<PathBuf, Error> {
    folder("durable data", app, |f| &f.durable, || system::durable(app))
}

/// The folder for data that can be made or downloaded again.
///
/// # Errors
/// As [`durable`].
pub fn cache(app: &str) -> Result<PathBuf, Error> {
    folder("data that can be made again", app, |f| &f.cache, || system::cache(app))
}

/// The folder for data that is of use only while the app runs.
///
/// # Errors
/// As [`durable`].
pub fn temporary(app: &str) -> Result<PathBuf, Error> {
    folder("temporary data", app, |f| &f.temporary, || system::temporary(app))
}

fn folder(
    what: &str,
    app: &str,
    handed_in: impl FnOnce(&Folders) -> &PathBuf,
    system: impl FnOnce() -> Option<PathBuf>,
) -> Result<PathBuf, Error> {
    let mut parts = Path::new(app).components();
    if app.is_empty() || app.contains('\0') || parts.any(|part| !matches!(part, Component::Normal(_))) {
        let problem = format!("{app:?} is no name of a folder for {what}: it would lead out of where that belongs");
        return Err(Error::new(Cause::FileMissing, problem)
            .untouched("Nothing was created")
            .advise("Give the app's own name, such as \"kilnbook\""));
    }
    if let Some(folders) = HANDED_IN.get() {
        return Ok(handed_in(folders).clone());
    }
    system().ok_or_else(|| {
        Error::new(Cause::FileMissing, format!("this system does not say where {what} belongs"))
            .advise("Hand in the app's own folders with place::hand_in when it starts")
    })
}

/// An app's folders on Windows, in the folder for what stays on this computer: what roams is copied to a server whenever the user signs out, and
/// an open database with it.
#[cfg(any(windows, test))]
fn of_windows(local: &Path, app: &str) -> (PathBuf, PathBuf) {
    let own = local.join(app);
    let cache = own.join("cache");
    (own, cache)
}

#[cfg(all(not(target_os = "android"), not(windows)))]
mod system {
    use etcetera::BaseStrategy;
    use std::path::PathBuf;

    #[cfg(target_vendor = "apple")]
    use etcetera::base_strategy::Apple as System;
    #[cfg(not(target_vendor = "apple"))]
    use etcetera::base_strategy::Xdg as System;

    pub(super) fn durable(app: &str) -> Option<PathBuf> {
        System::new().ok().map(|system| system.data_dir().join(app))
    }

    pub(super) fn cache(app: &str) -> Option<PathBuf> {
        System::new().ok().map(|system| system.cache_dir().join(app))
    }

    pub(super) fn temporary(app: &str) -> Option<PathBuf> {
        Some(std::env::temp_dir().join(app))
    }
}

#[cfg(windows)]
mod system {
    use super::of_windows;
    use etcetera::BaseStrategy;
    use etcetera::base_strategy::Windows;
    use std::path::PathBuf;

    /// There, what is made again belongs to the folder for what stays on this computer.
    fn local() -> Option<PathBuf> {
        Windows::new().ok().map(|system| system.cache_dir())
    }

    pub(super) fn durable(app: &str) -> Option<PathBuf> {
        local().map(|local| of_windows(&local, app).0)
    }

    pub(super) fn cache(app: &str) -> Option<PathBuf> {
        local().map(|local| of_windows(&local, app).1)
    }

    pub(super) fn temporary(app: &str) -> Option<PathBuf> {
        Some(std::env::temp_dir().join(app))
    }
}

/// There, only the app knows its folders; the system's own for temporary files is none that an app may write.
#[cfg(target_os = "android")]
mod system {
    use std::path::PathBuf;

    pub(super) fn durable(_app: &str) -> Option<PathBuf> {
        None
    }

    pub(super) fn cache(_app: &str) -> Option<PathBuf> {
        None
    }

    pub(super) fn temporary(_app: &str) -> Option<PathBuf> {
        None
    }
}

#[cfg(test)]
mod tests {
    use super::of_windows;
    use std::path::Path;

    #[test]
    fn on_windows_nothing_roams() {
        let (durable, cache) = of_windows(Path::new("AppData/Local"), "kilnbook");
        assert_eq!(
            (durable.as_path(), cache.as_path()),
            (Path::new("AppData/Local/kilnbook"), Path::new("AppData/Local/kilnbook/cache"))
        );
    }
}
