//! Words for a shell.

/// A text as one word of a POSIX shell, whatever is in it.
pub(crate) fn shell_word(text: &str) -> String {
    format!("'{}'", text.replace('\'', r"'\''"))
}
