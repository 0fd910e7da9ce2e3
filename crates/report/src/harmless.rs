//! Names and descriptions come from people one does not know: what they wrote must not steer a terminal.
//!
//! Control characters (C0 and C1 of ISO/IEC 6429, DEL), the bidirectional controls of Unicode (UAX #9), signs without a shape of
//! their own (by which two names look like one), and what is not a character become visible stand-ins. In JSON they are escaped,
//! which loses nothing.

/// Whether a character could steer a terminal, turn the order of the text around it, or not be seen at all.
fn steers(character: char) -> bool {
    let no_character = matches!(u32::from(character) & 0xFFFF, 0xFFFE | 0xFFFF);
    let unseen = matches!(character, '\u{ad}' | '\u{34f}' | '\u{180b}'..='\u{180f}' | '\u{200b}' | '\u{2060}'..='\u{2064}' | '\u{206a}'..='\u{206f}'
        | '\u{115f}' | '\u{1160}' | '\u{3164}' | '\u{fdd0}'..='\u{fdef}' | '\u{ffa0}' | '\u{fff0}'..='\u{fffb}' | '\u{e0000}'..='\u{e0fff}');
    character.is_control()
        || no_character
        || unseen
        || matches!(character, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2028}' | '\u{2029}' | '\u{2066}'..='\u{2069}' | '\u{feff}' | '\u{61c}')
}

/// A text in which everything is visible: a character that steers becomes `\u{1b}` or the like.
pub fn harmless_text(text: &str) -> String {
    if !text.chars().any(steers) {
        return text.to_owned();
    }
    let shown = |character: char| {
        if steers(character) {
            character.escape_unicode().to_string()
        } else {
            character.to_string()
        }
    };
    text.chars().map(shown).collect()
}

/// JSON in which such characters are escaped (RFC 8259, section 7); they occur inside of strings only.
pub fn harmless_json(json: &str) -> String {
    let steers_in_json = |character: char| steers(character) && character != '\n';
    if !json.chars().any(steers_in_json) {
        return json.to_owned();
    }
    let mut out = String::with_capacity(json.len());
    for character in json.chars() {
        if steers_in_json(character) {
            let mut units = [0; 2];
            for unit in character.encode_utf16(&mut units) {
                out.push_str(&format!("\\u{unit:04x}"));
            }
        } else {
            out.push(character);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_steers_is_left_and_nothing_is_lost() {
        let hostile = "a\u{1b}[2Jb\u{202e}c\u{9b}d\te\nf\u{7f}\u{200b}\u{e0041}\u{ffff}";
        assert_eq!(
            harmless_text(hostile),
            "a\\u{1b}[2Jb\\u{202e}c\\u{9b}d\\u{9}e\\u{a}f\\u{7f}\\u{200b}\\u{e0041}\\u{ffff}"
        );
        let json = serde_json::to_string_pretty(&vec![hostile]).unwrap();
        let escaped = harmless_json(&json);
        assert!(
            !escaped
                .chars()
                .any(|character| steers(character) && character != '\n'),
            "{escaped:?}"
        );
        assert_eq!(
            serde_json::from_str::<Vec<String>>(&escaped).unwrap(),
            [hostile]
        );
    }
}
