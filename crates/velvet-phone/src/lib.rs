//! A stand-in for a phone, to test persistence for real.
//!
//! A [`Phone`] gives each app a [`Sandbox`] of folders and a [`KeyStore`], starts it as a real process, sends it to the
//! background and back, kills it, and hands out copies of its files, as a developer's cable does. The app's side of it is
//! in [`app`].
//!
//! ```no_run
//! use std::process::Command;
//! use velvet_phone::Phone;
//!
//! let phone = Phone::temporary()?;
//! let sandbox = phone.sandbox("kilnbook")?;
//! let mut running = sandbox.start(Command::new("./kilnbook"))?;
//! running.wait_for("half of it is written")?;
//! running.kill()?;
//! let pulled = sandbox.pull("kiln.drawer", phone.folder())?;
//! # Ok::<(), std::io::Error>(())
//! ```

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod app;
mod key_store;
mod phone;
mod running;
mod sandbox;

pub use key_store::KeyStore;
pub use phone::Phone;
pub use running::Running;
pub use sandbox::Sandbox;
