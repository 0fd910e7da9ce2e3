//! Which entries decide replies, and so whether state is kept.

use super::*;

/// The entries up to the one that takes all that is left; the others decide nothing.
pub(super) fn deciding(entries: &[Entry]) -> &[Entry] {
    let Some(last) = entries.last() else {
        return entries;
    };
    let all = |entry: &Entry| {
        entry.condition.covers(&last.condition)
            && entries
                .iter()
                .all(|other| entry.condition.covers(&other.condition))
    };
    let end = entries
        .iter()
        .position(all)
        .map_or(entries.len(), |at| at + 1);
    &entries[..end]
}

pub(super) fn same(one: &[Entry], other: &[Entry]) -> bool {
    let pairs = one.iter().zip(other);
    one.len() == other.len() && { pairs }
        .all(|(a, b)| a.condition == b.condition && a.fate == b.fate)
}

/// What is decided of requests, with what becomes of their replies.
///
/// A request that a list allows is answered through the list of the other way, as conntrack knows the reply: the entry that decides
/// there says whether the reply passes for that reason alone (the entry keeps state), or is to be looked at by itself.
///
/// # Errors
/// If it comes to more than [`MOST_ENTRIES`].
pub(crate) fn with_replies(
    new: Vec<Entry>,
    replies: &[Entry],
    other_new: &[Entry],
) -> Result<Vec<Entry>, Refused> {
    let by_themselves = same(replies, other_new);
    let (replies, other_new) = (deciding(replies), deciding(other_new));
    // An entry that is not sure to match falls to the next: where all of them let through, everything is.
    if replies
        .iter()
        .all(|entry| entry.fate == Fate::Ends(Action::Allow))
    {
        return Ok(new);
    }
    let asked = |entries: &[Entry]| -> Vec<(Vec<Condition>, bool)> {
        entries
            .iter()
            .map(|entry| {
                (
                    entry.condition.asked_by(),
                    entry.fate == Fate::Ends(Action::Allow),
                )
            })
            .collect()
    };
    let (answered, anew) = (asked(replies), asked(other_new));
    let mut found = Vec::new();
    for entry in new {
        if entry.fate != Fate::Ends(Action::Allow) || entry.stateless {
            found.push(entry);
            continue;
        }
        if by_themselves {
            found.push(Entry {
                stateless: true,
                ..entry
            });
            continue;
        }
        let mut put = |condition: Condition, stateless: bool, action: Action| {
            if condition.is_empty() {
                return Ok(());
            }
            let fate = Fate::Ends(action);
            found.push(Entry {
                condition,
                fate,
                label: entry.label.clone(),
                stateless,
            });
            if found.len() > MOST_ENTRIES {
                Err(Refused::TooMany)
            } else {
                Ok(())
            }
        };
        put(entry.condition.and(&one_way()), false, Action::Allow)?;
        for (asked, allowed) in &answered {
            for asked in asked {
                let part = entry.condition.and(asked);
                if part.is_empty() {
                    continue;
                }
                if *allowed {
                    put(part, false, Action::Allow)?;
                    continue;
                }
                // The reply is refused as one; looked at by itself it has to be refused too.
                for (anew, allowed) in &anew {
                    for part in anew.iter().map(|anew| part.and(anew)) {
                        if *allowed {
                            let why = Condition::unknown(
                                "replies are refused that would be let through as requests",
                            );
                            put(part.and(&why), false, Action::Allow)?;
                            put(part, false, Action::Deny)?;
                        } else {
                            put(part, true, Action::Allow)?;
                        }
                    }
                }
            }
        }
    }
    Ok(found)
}

/// Without the copies of a line that no packet reaches any more; of each line one stays.
pub(crate) fn without_idle_copies(entries: Vec<Entry>) -> Vec<Entry> {
    let mut kept: Vec<Entry> = Vec::new();
    let mut seen: std::collections::HashSet<*const Label> = std::collections::HashSet::new();
    for entry in entries {
        let copy = !seen.insert(Rc::as_ptr(&entry.label));
        if !copy
            || !kept
                .iter()
                .any(|before| before.condition.covers(&entry.condition))
        {
            kept.push(entry);
        }
    }
    kept
}

/// Whether something holds, by what conntrack knows of a packet; none where nobody knows.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ByState {
    /// Of the first packet of a connection.
    pub new: Option<bool>,
    /// Of one that answers.
    pub reply: Option<bool>,
    /// Of ICMP that begins nothing: see [`invalid`].
    pub invalid: Option<bool>,
    /// Of what is not tracked: see [`untracked`].
    pub untracked: Option<bool>,
    /// Whether it is a question of the packet alone, such as its flags: conntrack has no part in it.
    pub of_packet: bool,
}

impl ByState {
    /// Whether a state is one of some, by the words of conntrack in lower case.
    pub fn one_of(words: &[&str]) -> Self {
        let has = |word| Some(words.contains(&word));
        Self {
            new: has("new"),
            reply: has("established"),
            invalid: has("invalid"),
            untracked: has("untracked"),
            of_packet: false,
        }
    }

    /// Whether it is the way of the request, or of the reply.
    pub fn direction(original: bool) -> Self {
        Self {
            new: Some(original),
            reply: Some(!original),
            invalid: None,
            untracked: None,
            of_packet: false,
        }
    }

    /// What holds of first packets whatever their state, and of replies.
    pub fn flags(first: bool, reply: Option<bool>) -> Self {
        Self {
            new: Some(first),
            reply,
            invalid: Some(first),
            untracked: Some(first),
            of_packet: true,
        }
    }

    pub fn negated(self) -> Self {
        let not = |holds: Option<bool>| holds.map(|holds| !holds);
        let Self {
            new,
            reply,
            invalid,
            untracked,
            of_packet,
        } = self;
        Self {
            new: not(new),
            reply: not(reply),
            invalid: not(invalid),
            untracked: not(untracked),
            of_packet,
        }
    }
}
