//! The larder's own secret, with which keys are hashed and tokens are signed: 32 random bytes in a
//! file of the store's folder that only its owner may read.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use larder_core::access::key::random;

use crate::error::StoreError;

/// The file's name. A backup of the store must have it too: without it no key is good.
const NAME: &str = "access.secret";

/// The secret of the store in a folder; it is made where it is missing.
pub fn local_secret(folder: &Path) -> Result<[u8; 32], StoreError> {
    let path = folder.join(NAME);
    let failed = |doing: &str| StoreError::io(format!("cannot {doing} {}", path.display()));
    if let Some(secret) = read(&path)? {
        return Ok(secret);
    }
    fs::create_dir_all(folder).map_err(failed("make the folder of"))?;
    let none = || std::io::Error::other("the system gave no random numbers");
    let secret: [u8; 32] = random().ok_or_else(none).map_err(failed("make"))?;
    // Made under another name with mode 0600, so that nobody ever sees half of it; the first one wins.
    let mut file = tempfile::NamedTempFile::new_in(folder).map_err(failed("make"))?;
    file.write_all(&secret).map_err(failed("write"))?;
    file.as_file().sync_all().map_err(failed("write"))?;
    match file.persist_noclobber(&path) {
        Ok(_) => {
            fs::File::open(folder).and_then(|it| it.sync_all()).map_err(failed("keep"))?;
            Ok(secret)
        }
        Err(error) if error.error.kind() == std::io::ErrorKind::AlreadyExists => {
            read(&path)?.ok_or_else(|| failed("read")(std::io::ErrorKind::NotFound.into()))
        }
        Err(error) => Err(failed("keep")(error.error)),
    }
}

/// Gives a folder this secret, for a store that moves there.
#[cfg(feature = "replicas")]
pub(crate) fn set_local(folder: &Path, secret: &[u8; 32]) -> Result<(), StoreError> {
    let path = folder.join(NAME);
    let failed = || StoreError::io(format!("cannot write {}", path.display()));
    let mut file = tempfile::NamedTempFile::new_in(folder).map_err(failed())?;
    file.write_all(secret).map_err(failed())?;
    file.as_file().sync_all().map_err(failed())?;
    file.persist(&path).map_err(|error| failed()(error.error))?;
    fs::File::open(folder).and_then(|it| it.sync_all()).map_err(failed())
}

/// None: there is none yet.
fn read(path: &Path) -> Result<Option<[u8; 32]>, StoreError> {
    let failed = || StoreError::io(format!("cannot read {}", path.display()));
    let bytes = match fs::read(path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(failed()(error)),
    };
    let mode = fs::metadata(path).map_err(failed())?.permissions().mode();
    if mode & 0o077 != 0 {
        let cause = format!("others may read it (mode {:o}); `chmod 600` it", mode & 0o777);
        return Err(failed()(std::io::Error::other(cause)));
    }
    let wrong = |_| std::io::Error::other("it does not hold 32 bytes");
    bytes.try_into().map(Some).map_err(wrong).map_err(failed())
}
