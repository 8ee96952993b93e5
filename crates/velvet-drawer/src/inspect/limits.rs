//! How much looking into a file may take.

use crate::work::cancel::Cancel;
use std::time::Duration;

/// How much looking into a file may take.
///
/// What is stored in a file has its end. What a file defines, its views and computed columns, may have none, and whoever made the file may
/// have meant that. So what they take is counted over all that is asked of a [`File`](super::File), and refused when it is used up
/// ([`Error::is_beyond_bounds`](crate::Error::is_beyond_bounds)); what is stored is shown all the same. They may not make a value that is larger
/// than the file either, or than 16 MB in a small one.
#[derive(Clone, Debug)]
pub struct Limits {
    /// For how long the engine may work at views and statements that call themselves; 3 seconds unless said otherwise. On Linux and Android this is time of the processor,
    /// so a busy machine makes no difference.
    pub within: Duration,
    /// Ends all of it at once.
    pub cancel: Cancel,
}

impl Default for Limits {
    fn default() -> Limits {
        Limits { within: Duration::from_secs(3), cancel: Cancel::default() }
    }
}
