//! The one wrapper for anything that must not be seen.

use std::fmt;
use zeroize::Zeroize;

/// A value that never prints itself and is overwritten when dropped.
///
/// `Debug` and `Display` both give `[secret]`, so a secret that slips into a log line, an error or a panic shows nothing.
#[derive(Clone, Default)]
pub struct Secret<T: Zeroize>(T);

impl<T: Zeroize> Secret<T> {
    /// Wraps `value`.
    pub fn new(value: T) -> Self {
        Secret(value)
    }

    /// The value itself. Named so that every place that looks inside can be found by searching for it.
    pub fn expose(&self) -> &T {
        &self.0
    }
}

impl<T: Zeroize> Drop for Secret<T> {
    fn drop(&mut self) {
        self.0.zeroize();
    }
}

impl<T: Zeroize> fmt::Debug for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("[secret]")
    }
}

impl<T: Zeroize> fmt::Display for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("[secret]")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_prints_masked_in_every_way() {
        let secret = Secret::new("tide-and-time".to_owned());
        assert_eq!(format!("{secret} {secret:?} {:?}", Some(&secret)), "[secret] [secret] Some([secret])");
    }
}
