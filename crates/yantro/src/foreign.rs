//! Text that others wrote – log lines, output, names, notes – at the edge where it is shown: what would act on the terminal is
//! made visible instead, so that no line can overwrite another, hide, or pass for one of ours.

use std::borrow::Cow;

/// Whether a character acts on a terminal, or on how what follows is read, instead of being seen.
fn acts(c: char) -> bool {
    match c {
        '\n' | '\t' => false,
        '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{2028}' | '\u{2029}' => true,
        c => c.is_control(),
    }
}

/// A character that acts, as one that is seen: `␛` for an escape, `␍` for a carriage return, its number for what has no picture.
fn push_seen(out: &mut String, c: char) {
    match c {
        '\u{0}'..='\u{1f}' => out.push(char::from_u32(0x2400 + c as u32).unwrap_or('\u{fffd}')),
        '\u{7f}' => out.push('\u{2421}'),
        c => out.push_str(&format!("<{:04x}>", c as u32)),
    }
}

/// Text as it may be printed: our own tints stay, and whatever else would act is seen. Lines that end as another system ends
/// them lose nothing.
pub fn printed(text: &str) -> Cow<'_, str> {
    if !text.chars().any(acts) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(tint) = own_tint(rest) {
            out.push_str(tint);
            rest = &rest[tint.len()..];
            continue;
        }
        rest = &rest[c.len_utf8()..];
        match c {
            '\r' if rest.starts_with('\n') => {}
            c if acts(c) => push_seen(&mut out, c),
            c => out.push(c),
        }
    }
    Cow::Owned(out)
}

/// The tint that a text begins with, where it begins with one of ours.
fn own_tint(text: &str) -> Option<&str> {
    let codes = text.strip_prefix("\x1b[")?;
    let end = codes.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    codes[end..].starts_with('m').then(|| &text[.."\x1b[".len() + end + 1])
}

/// Text that others wrote, in which nothing can pass for a tint of ours.
pub fn untinted_text(text: &str) -> String {
    text.replace('\x1b', "\u{241b}")
}

/// JSON as it may be printed: what JSON lets stand in a string and a terminal would act on is written by its number, which
/// means the same.
pub fn in_json(json: &str) -> Cow<'_, str> {
    let in_string = |c: char| c != '\r' && acts(c);
    if !json.chars().any(in_string) {
        return Cow::Borrowed(json);
    }
    Cow::Owned(json.chars().fold(String::with_capacity(json.len() + 16), |mut out, c| {
        if in_string(c) {
            out.push_str(&format!("\\u{:04x}", c as u32));
        } else {
            out.push(c);
        }
        out
    }))
}

/// An answer of the server, as JSON, in which nothing that others wrote can pass for a tint of ours. All else, the bytes of a
/// text that is written to a file included, stays.
pub fn untinted(json: &str) -> Cow<'_, str> {
    if !json.contains("\\u001") {
        return Cow::Borrowed(json);
    }
    let mut out = String::with_capacity(json.len());
    let mut rest = json;
    while let Some(at) = rest.find('\\') {
        out.push_str(&rest[..at]);
        // What is escaped by a backslash goes with it, another backslash included.
        let escape = &rest[at..];
        let length = if escape.as_bytes().get(1) == Some(&b'u') { 6 } else { 2 };
        let (escape, after) = escape.split_at(length.min(escape.len()));
        out.push_str(if escape.eq_ignore_ascii_case("\\u001b") { "\u{241b}" } else { escape });
        rest = after;
    }
    out.push_str(rest);
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::nothing_odd("pier/boards  ✓ proven\n\tsince 02:40", "pier/boards  ✓ proven\n\tsince 02:40")]
    #[case::a_line_that_overwrites_its_beginning("✗ failed\r✓ proven", "✗ failed␍✓ proven")]
    #[case::another_systems_line_ends("one\r\ntwo\r\n", "one\ntwo\n")]
    #[case::a_cursor_that_moves_up("up\x1b[1Aover", "up␛[1Aover")]
    #[case::a_title_of_the_window("\x1b]0;mine\x07", "␛]0;mine␇")]
    #[case::the_same_in_one_character("\u{9b}2J", "<009b>2J")]
    #[case::text_that_runs_backwards("safe\u{202e}evil", "safe<202e>evil")]
    #[case::a_backspace("12\u{8}3", "12␈3")]
    #[case::our_own_tints("\x1b[35;1m✗\x1b[0m", "\x1b[35;1m✗\x1b[0m")]
    #[case::a_tint_that_never_ends("\x1b[35", "␛[35")]
    fn what_would_act_on_a_terminal_is_seen(#[case] text: &str, #[case] shown: &str) {
        assert_eq!(printed(text), shown);
    }

    #[test]
    fn json_keeps_its_meaning_and_acts_on_nothing() {
        let value = serde_json::json!({ "line": "a\u{1b}[2J\u{9b}1A\u{202e}b\r\n" });
        let printed = in_json(&serde_json::to_string_pretty(&value).unwrap()).into_owned();
        assert!(!printed.chars().any(acts), "{printed:?}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&printed).unwrap(), value);
    }

    #[test]
    fn nothing_that_others_wrote_passes_for_a_tint() {
        let json = serde_json::json!({ "line": "\u{1b}[36m✓ proven\u{1b}[0m" }).to_string();
        let value: serde_json::Value = serde_json::from_str(&untinted(&json)).unwrap();
        assert_eq!(value["line"], "␛[36m✓ proven␛[0m");
        let backslashes = serde_json::json!({ "line": "a\\u001b and \\\u{1b}" }).to_string();
        let value: serde_json::Value = serde_json::from_str(&untinted(&backslashes)).unwrap();
        assert!(!value["line"].as_str().unwrap().contains('\u{1b}'));
    }
}
