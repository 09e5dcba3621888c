//! The token of a feed: out of the environment, or a file that nobody else may read.

use std::path::{Path, PathBuf};

use super::Feed;
use stavel_core::{Error, Result};

/// The header that a token is sent in, and what stands in it. It is never shown.
pub struct TokenHeader {
    pub name: String,
    pub value: String,
}

/// Reads the token of a feed; none where it wants none.
///
/// # Errors
/// Where it is not there, or others may read its file. The token is in no sentence.
pub fn token_of(feed: &Feed) -> Result<Option<TokenHeader>> {
    let Some(text) = &feed.token else { return Ok(None) };
    let token = match (&text.env, &text.file) {
        (Some(name), _) => std::env::var(name).map_err(|_| {
            Error::input(format!("The feed {} wants its token in {name}, which is not set.", feed.name))
        })?,
        (None, Some(path)) => from_file(feed, &at_home(path))?,
        (None, None) => return Ok(None),
    };
    let token = token.trim();
    if token.is_empty() || !token.bytes().all(|c| (0x21..0x7f).contains(&c)) {
        return Err(Error::input(format!(
            "The token of the feed {} is empty or holds characters that no token has; set it anew.",
            feed.name
        )));
    }
    Ok(Some(match &text.header {
        Some(name) => TokenHeader { name: name.clone(), value: token.to_owned() },
        None => TokenHeader { name: "Authorization".into(), value: format!("Bearer {token}") },
    }))
}

fn from_file(feed: &Feed, path: &Path) -> Result<String> {
    let about = std::fs::metadata(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        if about.permissions().mode() & 0o077 != 0 {
            return Err(Error::input(format!(
                "Others may read the token of the feed {} in {1}; say chmod 600 {1}.",
                feed.name,
                path.display()
            )));
        }
    }
    if about.len() > 1 << 16 {
        return Err(Error::input(format!("{} is too long for a token.", path.display())));
    }
    std::fs::read_to_string(path).map_err(|e| Error::io("Cannot read", path, &e))
}

/// A path whose `~` is the home folder.
fn at_home(path: &Path) -> PathBuf {
    match (path.strip_prefix("~"), std::env::var_os("HOME")) {
        (Ok(rest), Some(home)) => Path::new(&home).join(rest),
        _ => path.to_owned(),
    }
}
