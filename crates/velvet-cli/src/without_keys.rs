//! What stands for [`keys`](crate::keys) where the command is built without ciphers: none.

use crate::args::KeySource;
use crate::failure::Failure;
use std::path::Path;

pub(crate) fn take(_: &KeySource) -> Result<(), Failure> {
    Ok(())
}

pub(crate) fn unlock(_: &Path) -> Result<(), Failure> {
    Ok(())
}
