//! A new key for what is sealed.

use crate::device::companions;
use crate::drawer::Drawer;
use crate::engine::Connection;
use crate::error::{Cause, Error};
use crate::sealing::KeyChange;
use crate::work::progress;

impl Drawer {
    /// Makes a new key for what is sealed, and seals all of it anew with that, some records in each transaction, so that others read and write in between. After a
    /// kill, or a cancel, it goes on where it was called again; until then what is sealed by either key is read.
    ///
    /// The keeper has the old key too afterwards, because kept copies of the file are sealed with it; see [`Drawer::forget_old_keys`].
    ///
    /// # Errors
    /// When there is no key ([`Error::is_key_missing`]), its keeper does not answer, or the file cannot be written. What was sealed anew stays so.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, KeysInMemory, Record, Schema};
    /// #[derive(Record)]
    /// struct Client { name: String, #[record(sealed)] phone: Option<String> }
    ///
    /// let drawer = Drawer::options().keys(KeysInMemory::default()).in_memory(Schema::new("kilnbook").record::<Client>())?;
    /// let ann = drawer.insert(Client { name: "Ann".into(), phone: Some("555 0100".into()) })?;
    /// assert_eq!(drawer.renew_key()?.sealed, 1);
    /// assert_eq!(drawer.get(ann.key())?.unwrap().phone.as_deref(), Some("555 0100"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[doc(alias = "rekey")]
    #[doc(alias = "rotate")]
    pub fn renew_key(&self) -> Result<KeyChange, Error> {
        let doing = || "cannot give the drawer a new key";
        let declared = &self.inner.declared;
        let sealing = &declared.sealing;
        let begun = self.inner.transaction(|scope| {
            scope.doing(doing, || sealing.renewing(scope.connection, &declared.app, &declared.structure))
        });
        let mut renewing = begun.inspect_err(|_| self.keys_are_those_of_the_file())?;
        loop {
            progress::tell(|| "sealing values with the new key".to_owned(), renewing.done.sealed, None);
            let step = self.inner.transaction(|scope| scope.doing(doing, || renewing.step(scope.connection)))?;
            if step.is_break() {
                return Ok(renewing.done);
            }
        }
    }

    /// Has the keeper forget the keys that the drawer had before, once nothing is sealed with them any more. Kept copies and other copies of the
    /// file that are sealed with one cannot be read then, which is what it is for. A copy forgets none of the keys of the file that it was copied from.
    ///
    /// # Errors
    /// When a file that was set aside next to the drawer still needs one, which stays then ([`Error::is_in_use`]); when the keeper does not answer, or the file cannot be
    /// read.
    pub fn forget_old_keys(&self) -> Result<(), Error> {
        let declared = &self.inner.declared;
        let doing = || "cannot forget the keys that the drawer had before";
        let set_aside = self.inner.path().map(companions::all_set_aside).unwrap_or_default();
        let forget = |connection: &Connection| declared.sealing.forget_old_keys(connection, &declared.app, &set_aside);
        let still = self.inner.reading(|scope| scope.doing(doing, || forget(scope.connection)))?;
        let Some(file) = still.first() else { return Ok(()) };
        let problem = format!("{}: {} is sealed with one of them", doing(), file.display());
        let error = Error::new(Cause::InUse, problem).untouched("That key stays; the others are forgotten");
        Err(self.inner.place.name(error.advise("Remove the file, or restore it and give it a new key first")))
    }

    fn keys_are_those_of_the_file(&self) {
        let declared = &self.inner.declared;
        let _ = self.inner.reading(|scope| {
            declared.sealing.read_again(scope.connection, &declared.app);
            Ok(())
        });
    }
}
