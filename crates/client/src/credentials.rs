//! With which account do we come?

use secrecy::SecretString;

/// A name and its secret. Printing it shows the name only.
#[derive(Debug, Clone)]
pub struct Credentials {
    pub user: String,
    /// Its password or token.
    pub secret: SecretString,
}
