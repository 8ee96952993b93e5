//! Why a command could not be done.

use std::fmt;
use std::io;

/// What a command found that was done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Verdict {
    /// All is well.
    Fine,
    /// Something is wrong, or differs.
    Wrong,
}

/// The exit code when something is wrong, or differs.
pub(crate) const WRONG: u8 = 1;

/// The exit code when something could not be done.
pub(crate) const COULD_NOT: u8 = 2;

/// Why a command could not be done.
#[derive(Debug)]
pub(crate) enum Failure {
    /// Said in words.
    Words(String),
    /// The library's error.
    Drawer(velvet_drawer::Error),
    /// Output could not be written, or a process not be run.
    Io(io::Error),
}

impl Failure {
    pub(crate) fn new(words: impl Into<String>) -> Failure {
        Failure::Words(words.into())
    }

    /// Whether the reader of our output went away.
    pub(crate) fn is_closed_pipe(&self) -> bool {
        self.of_output().is_some_and(|error| error.kind() == io::ErrorKind::BrokenPipe)
    }

    /// What the output said, where that is why.
    pub(crate) fn of_output(&self) -> Option<&io::Error> {
        match self {
            Failure::Words(_) => None,
            Failure::Io(error) => Some(error),
            Failure::Drawer(error) => std::error::Error::source(error)?.downcast_ref(),
        }
    }
}

/// Why the output could not be written, in words.
pub(crate) fn why(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::StorageFull => format!("the device has no space left ({error}). Free some space and try again"),
        _ => error.to_string(),
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Failure::Words(words) => f.write_str(words),
            Failure::Drawer(error) if self.of_output().is_none() => error.fmt(f),
            failure => match failure.of_output() {
                Some(error) => write!(f, "cannot write the output: {}", why(error)),
                None => Ok(()),
            },
        }
    }
}

impl From<velvet_drawer::Error> for Failure {
    fn from(error: velvet_drawer::Error) -> Failure {
        Failure::Drawer(error)
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Failure {
        Failure::Io(error)
    }
}
