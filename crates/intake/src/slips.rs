//! Slips of people who write YAML by hand: a parser tells of them late, and in its own words. Here the place is looked for where the
//! slip is, with what would be right.

use std::ops::Range;

/// What is wrong, where, and what would be right.
pub(crate) struct Slip {
    pub title: String,
    pub at: usize,
    pub label: &'static str,
    pub help: Option<String>,
}

/// The slip behind an error of the parser at a byte; none if it cannot be told.
pub(crate) fn slip(text: &str, at: usize, info: &str) -> Option<Slip> {
    let at = at.min(text.len());
    if info.contains("tab") {
        return tab(text, at);
    }
    if info.contains("quoted scalar") {
        return Some(Slip {
            title: "this quotation mark is not closed".to_owned(),
            at,
            label: "it begins here",
            help: Some("close it with the same mark, on the same line".to_owned()),
        });
    }
    if info.contains("unknown anchor") {
        let name = text[at..]
            .split(|sign: char| sign.is_whitespace() || ",]}".contains(sign))
            .next()
            .unwrap_or_default();
        return Some(Slip {
            title: format!("`{name}` refers to an anchor that does not exist"),
            at,
            label: "here",
            help: Some(format!("write \"{name}\" if the sign is part of the text")),
        });
    }
    if let Some(wrong) = dash(text, at) {
        return Some(wrong);
    }
    let brackets = Brackets::up_to(text, at);
    if let Some(wrong) = brackets.wrong {
        return Some(wrong);
    }
    if let Some(glued) = glued_colon(text, at) {
        return Some(glued);
    }
    if let Some(&(open, sign)) = brackets.open.last() {
        // Inside of brackets a second colon in one value is a comma that is missing, or a name that needs quotes.
        if line_of(text, open) == line_of(text, at) {
            return second_colon(text, at);
        }
        return Some(Slip {
            title: format!("this `{sign}` is not closed"),
            at: open,
            label: "it begins here",
            help: Some(format!("close it with `{}`", closing(sign))),
        });
    }
    if info.contains("expected key")
        || info.contains("indentation")
        || info.contains("inside a block")
    {
        return Some(Slip {
            title: "this line is not indented like the lines around it".to_owned(),
            at,
            label: "here",
            help: Some(
                "fields of one object start in the same column, and so do dashes of one list"
                    .to_owned(),
            ),
        });
    }
    None
}

/// The bytes of the line around a place.
fn line_of(text: &str, at: usize) -> Range<usize> {
    let start = text[..at].rfind('\n').map_or(0, |end| end + 1);
    let end = text[at..].find('\n').map_or(text.len(), |end| at + end);
    start..end
}

fn tab(text: &str, at: usize) -> Option<Slip> {
    let from = line_of(text, at).start;
    let at = from + text[from..].find('\t')?;
    Some(Slip {
        title: "a tab cannot indent".to_owned(),
        at,
        label: "a tab",
        help: Some("write spaces instead".to_owned()),
    })
}

/// A dash without its space, or one that is typographic, before an item of a list.
fn dash(text: &str, at: usize) -> Option<Slip> {
    let line = line_of(text, at);
    let words = text[line.clone()].trim_start();
    let at = line.end - words.len();
    let (title, rest) = match words.strip_prefix(['–', '—', '•', '*', '−']) {
        Some(rest) => ("this sign does not start a list item", rest),
        None => (
            "a space is missing after the dash",
            words.strip_prefix('-')?,
        ),
    };
    let glued = rest.starts_with(|sign: char| sign.is_alphanumeric() || "{[".contains(sign));
    let other = !words.starts_with('-') && rest.starts_with([' ', '{', '[']);
    (other || (words.starts_with('-') && glued)).then(|| Slip {
        title: title.to_owned(),
        at,
        label: "here",
        help: Some("write a plain dash and a space: `- `".to_owned()),
    })
}

fn closing(sign: char) -> char {
    if sign == '{' { '}' } else { ']' }
}

/// What brackets are open.
#[derive(Default)]
struct Brackets {
    open: Vec<(usize, char)>,
    /// A bracket that closes another kind than the one that is open.
    wrong: Option<Slip>,
}

impl Brackets {
    /// Those that are open at a place, by a reading that knows quotes and comments, and nothing else of YAML.
    fn up_to(text: &str, at: usize) -> Self {
        let mut found = Self::default();
        let (mut quote, mut before) = (None, '\n');
        let mut signs = text[..line_of(text, at).end].char_indices();
        while let Some((place, sign)) = signs.next() {
            match (quote, sign) {
                (Some('"'), '\\') => {
                    signs.next();
                }
                (Some(open), sign) if open == sign => quote = None,
                (Some(_), _) => {}
                (None, '#') if before.is_whitespace() => {
                    for (_, sign) in signs.by_ref() {
                        if sign == '\n' {
                            break;
                        }
                    }
                }
                (None, '"' | '\'') if matches!(before, ' ' | '\n' | '[' | '{' | ',' | ':') => {
                    quote = Some(sign)
                }
                (None, '{' | '[') if matches!(before, ' ' | '\n' | '[' | '{' | ',') => {
                    found.open.push((place, sign))
                }
                (None, '}' | ']') => match found.open.pop() {
                    Some((open, kind)) if closing(kind) != sign => {
                        let right = closing(kind);
                        let line = text[..open].bytes().filter(|byte| *byte == b'\n').count() + 1;
                        found.wrong = Some(Slip {
                            title: format!(
                                "this `{sign}` closes nothing: `{kind}` of line {line} is open"
                            ),
                            at: place,
                            label: "here",
                            help: Some(format!("close it with `{right}` before")),
                        });
                        return found;
                    }
                    _ => {}
                },
                _ => {}
            }
            before = sign;
            if place >= at && quote.is_none() && !matches!(sign, '}' | ']') {
                break;
            }
        }
        found
    }
}

/// A field whose value stands right behind the colon, on the line or the one before.
fn glued_colon(text: &str, at: usize) -> Option<Slip> {
    let here = line_of(text, at);
    let before = (here.start > 0).then(|| line_of(text, here.start - 1));
    for line in [Some(here), before].into_iter().flatten() {
        let words = text[line.clone()].trim_start();
        let start = line.end - words.len();
        let words = words.trim_start_matches("- ");
        let Some((name, value)) = words.split_once(':') else {
            continue;
        };
        let is_name = !name.is_empty()
            && name
                .chars()
                .all(|sign| sign.is_ascii_alphanumeric() || sign == '_');
        if is_name
            && !value.is_empty()
            && !value.starts_with([' ', '\t', '\r'])
            && !value.contains(": ")
        {
            return Some(Slip {
                title: "a space is missing after the colon".to_owned(),
                at: text[start..].find(':').map_or(start, |colon| start + colon),
                label: "here",
                help: Some(format!("write `{name}: {}`", value.trim_end())),
            });
        }
    }
    None
}

fn second_colon(text: &str, at: usize) -> Option<Slip> {
    let line = line_of(text, at);
    let before = &text[line.start..at];
    let value = before.rsplit([',', '{', '[']).next()?;
    let (_, value) = value.split_once(": ")?;
    let value = value.trim_start();
    let rest = text[at..line.end].strip_prefix(':')?;
    let name = rest.split([',', '}', ']']).next()?.trim();
    let start = at - value.len();
    Some(match value.rsplit_once(' ') {
        Some((_, field)) => Slip {
            title: format!("a comma is missing before `{field}`"),
            at: at - field.len(),
            label: "here",
            help: Some("separate the fields between braces by commas".to_owned()),
        },
        None => Slip {
            title: "a value with a colon needs quotation marks, and no space after the colon"
                .to_owned(),
            at: start,
            label: "this value",
            help: Some(format!("write \"{value}:{name}\"")),
        },
    })
}

/// What typographic quotation marks around a value are meant to be.
pub(crate) fn typographic(value: &str) -> Option<String> {
    const MARKS: [char; 8] = ['“', '”', '„', '‟', '‘', '’', '‚', '‛'];
    let begins = value.starts_with(MARKS) || value.ends_with(MARKS);
    begins.then(|| {
        format!(
            "these are typographic quotation marks: write \"{}\"",
            value.trim_matches(MARKS)
        )
    })
}

/// What a field of another name is mostly meant to be, if the object has such a field.
pub(crate) fn other_word(given: &str, known: &[&str]) -> Option<String> {
    const WORDS: [(&str, &[&str]); 27] = [
        ("cidr", &["blocks", "addresses", "peers", "content"]),
        ("cidrs", &["blocks", "peers", "content"]),
        ("prefix", &["blocks", "peers", "content"]),
        ("range", &["blocks", "peers", "content"]),
        ("ip", &["addresses", "address"]),
        ("ips", &["addresses", "content"]),
        ("port", &["services"]),
        ("ports", &["services"]),
        ("protocol", &["services"]),
        ("proto", &["services"]),
        ("service", &["services"]),
        ("source", &["peers", "sources", "from"]),
        ("sources", &["peers"]),
        ("src", &["peers", "sources"]),
        ("from", &["peers", "sources"]),
        ("destination", &["peers", "destinations", "to"]),
        ("destinations", &["peers", "to"]),
        ("dst", &["peers", "destinations", "to"]),
        ("dest", &["peers", "destinations", "to"]),
        ("via", &["next_hop"]),
        ("nexthop", &["next_hop"]),
        ("target", &["next_hop", "to"]),
        ("type", &["kind"]),
        ("name", &["id"]),
        ("security_groups", &["groups"]),
        ("ingress", &["inbound"]),
        ("egress", &["outbound"]),
    ];
    if given.eq_ignore_ascii_case("direction") && known.contains(&"peers") {
        return Some(
            "put the rule into the list of its direction: `inbound` or `outbound`".to_owned(),
        );
    }
    let (_, meant) = WORDS
        .iter()
        .find(|(word, _)| word.eq_ignore_ascii_case(given))?;
    let meant = meant.iter().find(|field| known.contains(field))?;
    Some(format!("write `{meant}`"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slips_are_found_where_they_are() {
        let cases: [(&str, &str, &str, &str); 7] = [
            (
                "version:1\nestate: {}\n",
                "estate",
                "simple key expect ':'",
                "write `version: 1`",
            ),
            (
                "a:\n- { b: c\n- { d: e }\n",
                "- { d",
                "\"-\" is only valid inside a block",
                "close it with `}`",
            ),
            (
                "a: [{ b: c } }\nd: e\n",
                "d:",
                "invalid indentation in flow construct",
                "close it with `]` before",
            ),
            (
                "a: { b: gateway: g }\n",
                ": g",
                "did not find expected ',' or '}'",
                "write \"gateway:g\"",
            ),
            (
                "a: { b: c d: e }\n",
                ": e",
                "did not find expected ',' or '}'",
                "between braces by commas",
            ),
            (
                "a:\n  b: c\n d: e\n",
                "d:",
                "did not find expected key",
                "start in the same column",
            ),
            ("a: b\n\tc: d\n", "c:", "found a tab", "write spaces"),
        ];
        for (text, place, info, help) in cases {
            let found = slip(text, text.rfind(place).unwrap(), info)
                .map_or_else(String::new, |slip| slip.help.unwrap());
            assert!(found.contains(help), "{text}: {found}");
        }
        assert_eq!(
            other_word("cidr", &["id", "blocks"]).as_deref(),
            Some("write `blocks`")
        );
        assert_eq!(
            typographic("“g”").as_deref(),
            Some("these are typographic quotation marks: write \"g\"")
        );
    }
}
