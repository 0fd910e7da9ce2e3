//! Labels as verdicts: completion by completion, and nature's choices and conditions in each (`docs/semantics.md` 9).

use super::Part;
use super::label::{Choice, Judged, Label, Labels, Tree, Verdict};
use crate::faults::{Fault, has};
use crate::policy::Condition;
use heronshale_model::estate::{Id, NameSet};
use rustc_hash::{FxHashMap, FxHashSet};

/// Completions of the snapshot that are judged; past so many an answer is undecided.
const MOST_COMPLETIONS: usize = 1 << 12;

/// Places in labels that are looked at to judge one; past so many it is undecided.
const MOST_LOOKS: usize = 1 << 21;

/// What is known while a label is judged.
#[derive(Default)]
struct Known {
    /// Of one completion, what labels come to under no condition.
    judged: FxHashMap<Label, Judged>,
    looks: usize,
}

impl Labels {
    /// A label as one verdict. What comes out the same in every completion of the snapshot is certain; what works for somebody in
    /// every one, works for some.
    pub fn judge(&self, label: Label) -> Judged {
        let mut found: Vec<Judged> = Vec::new();
        let mut open: Vec<Vec<(u32, bool)>> = vec![Vec::new()];
        let mut count = 0;
        let mut known = Known::default();
        while let Some(given) = open.pop() {
            count += 1;
            known.judged.clear();
            if count > MOST_COMPLETIONS || known.looks > MOST_LOOKS {
                return Judged::of(Verdict::Undecided, 0);
            }
            match self.completed(label, &given, &mut Vec::new(), &mut known) {
                Ok(judged) if found.iter().any(|known| known.is_as(&judged)) => {}
                Ok(judged) => found.push(judged),
                Err(doubt) => {
                    for is in [true, false] {
                        open.push(given.iter().copied().chain([(doubt, is)]).collect());
                    }
                }
            }
        }
        if known.looks > MOST_LOOKS {
            return Judged::of(Verdict::Undecided, 0);
        }
        self.only_one(label, found)
    }

    /// Several possibilities are unknown. Those were found last that come first.
    fn only_one(&self, label: Label, mut all: Vec<Judged>) -> Judged {
        let may_work = all.iter().any(|one| one.may_work);
        let partly = all
            .iter()
            .position(|one| one.verdict == Verdict::WorksForSome);
        let open = |one: &Judged| matches!(one.verdict, Verdict::Works | Verdict::WorksForSome);
        let given_up = all.iter().position(|one| one.verdict == Verdict::Undecided);
        match partly {
            _ if all.len() == 1 => all.remove(0),
            _ if given_up.is_some() => all.swap_remove(given_up.unwrap_or(0)),
            Some(partly) if all.iter().all(open) => all.remove(partly),
            _ => {
                let trail = self.first_doubt(label).unwrap_or(all[0].trail);
                Judged {
                    may_work,
                    ..Judged::of(Verdict::Unknown, trail)
                }
            }
        }
    }

    /// The steps up to the first doubt that there is.
    pub(super) fn first_doubt(&self, label: Label) -> Option<u32> {
        let mut open = vec![label];
        let mut seen = FxHashSet::default();
        while let Some(label) = open.pop() {
            if !seen.insert(label) {
                continue;
            }
            match self.tree(label) {
                Tree::Doubt { trail, .. } => return Some(*trail),
                Tree::Turns {
                    holds, otherwise, ..
                } => open.extend([*otherwise, *holds]),
                Tree::Choice(all) => open.extend(all.iter().rev().map(|(_, below)| *below)),
                Tree::Leaf(_) => {}
            }
        }
        None
    }

    /// The verdict in one completion, as far as the answers go that are given; else the doubt that has none.
    fn completed(
        &self,
        label: Label,
        given: &[(u32, bool)],
        conditions: &mut Vec<(Condition, bool)>,
        known: &mut Known,
    ) -> Result<Judged, u32> {
        known.looks += 1;
        if known.looks > MOST_LOOKS {
            return Ok(Judged::of(Verdict::Undecided, 0));
        }
        if let Some(judged) = known.judged.get(&label).filter(|_| conditions.is_empty()) {
            return Ok(judged.clone());
        }
        let judged = self.looked_at(label, given, conditions, known)?;
        if conditions.is_empty() {
            known.judged.insert(label, judged.clone());
        }
        Ok(judged)
    }

    fn looked_at(
        &self,
        label: Label,
        given: &[(u32, bool)],
        conditions: &mut Vec<(Condition, bool)>,
        known: &mut Known,
    ) -> Result<Judged, u32> {
        match self.tree(label) {
            Tree::Leaf(leaf) => Ok(Judged::of(leaf.verdict, leaf.trail)),
            Tree::Choice(all) => {
                let mut judged = Vec::with_capacity(all.len());
                for (choice, below) in all {
                    judged.push((choice, self.completed(*below, given, conditions, known)?));
                }
                // Branches that are equal count once.
                if judged.iter().all(|(_, one)| one.is_as(&judged[0].1)) {
                    return Ok(judged.swap_remove(0).1);
                }
                Ok(among(judged))
            }
            Tree::Turns {
                condition,
                holds,
                otherwise,
            } => {
                let [may_hold, may_fail] =
                    [true, false].map(|is| self.may_be(condition, is, conditions));
                if !(may_hold && may_fail) {
                    let branch = if may_hold { *holds } else { *otherwise };
                    return self.completed(branch, given, conditions, known);
                }
                let mut under = |is: bool, label: Label| {
                    conditions.push((condition.clone(), is));
                    let found = self.completed(label, given, conditions, known);
                    conditions.pop();
                    found
                };
                let (yes, no) = (under(true, *holds)?, under(false, *otherwise)?);
                if yes.is_as(&no) && self.are_alike(*holds, *otherwise, given, known) {
                    return Ok(no);
                }
                Ok(turned(condition, yes, no))
            }
            Tree::Doubt { doubt, yes, no, .. } => {
                match given.iter().find(|(other, _)| other == doubt) {
                    Some((_, is)) => {
                        self.completed(if *is { *yes } else { *no }, given, conditions, known)
                    }
                    None => Err(*doubt),
                }
            }
        }
    }

    /// Whether two labels mean the same in a completion: then nothing turns on what chooses between them.
    fn are_alike(
        &self,
        one: Label,
        other: Label,
        given: &[(u32, bool)],
        known: &mut Known,
    ) -> bool {
        known.looks += 1;
        if known.looks > MOST_LOOKS {
            return false;
        }
        let answered = |mut label: Label| {
            while let Tree::Doubt { doubt, yes, no, .. } = self.tree(label) {
                let Some((_, is)) = given.iter().find(|(known, _)| known == doubt) else {
                    break;
                };
                label = if *is { *yes } else { *no };
            }
            label
        };
        let (one, other) = (answered(one), answered(other));
        if one == other {
            return true;
        }
        match (self.tree(one), self.tree(other)) {
            (Tree::Leaf(one), Tree::Leaf(other)) => one.verdict == other.verdict,
            (Tree::Choice(one), Tree::Choice(other)) => {
                let alike = |((a, one), (b, other)): (&(Choice, Label), &(Choice, Label))| {
                    a == b && self.are_alike(*one, *other, given, known)
                };
                one.len() == other.len() && one.iter().zip(other).all(alike)
            }
            (
                Tree::Turns {
                    condition: a,
                    holds: h1,
                    otherwise: o1,
                },
                Tree::Turns {
                    condition: b,
                    holds: h2,
                    otherwise: o2,
                },
            ) => {
                a == b
                    && self.are_alike(*h1, *h2, given, known)
                    && self.are_alike(*o1, *o2, given, known)
            }
            _ => false,
        }
    }

    /// Whether a condition may be so, given what is taken of others: a packet is meant for one name, or for none.
    fn may_be(&self, condition: &Condition, is: bool, given: &[(Condition, bool)]) -> bool {
        if has(Fault::WalkConditionsForgotten) {
            return true;
        }
        let Condition::Named { asked, .. } = condition else {
            return given
                .iter()
                .all(|(other, known)| other != condition || *known == is);
        };
        let fits = |sets: &[Id<NameSet>]| {
            let agrees = |condition: &Condition, is: bool| match condition {
                Condition::Named {
                    sets: wanted,
                    asked: other,
                } if other == asked => wanted.iter().any(|set| sets.contains(set)) == is,
                _ => true,
            };
            agrees(condition, is) && given.iter().all(|(other, known)| agrees(other, *known))
        };
        let meant = if *asked {
            &self.meant.asked
        } else {
            &self.meant.any
        };
        meant.iter().any(|sets| fits(sets)) || fits(&[])
    }

    /// The whole of a partition as one verdict.
    pub(super) fn summary(&self, parts: &[Part]) -> Judged {
        let lowest = |part: &&Part| part.packets.lowest();
        let of = |verdict: Verdict| {
            parts
                .iter()
                .filter(|part| part.judged.verdict == verdict)
                .min_by_key(lowest)
        };
        let works = of(Verdict::Works);
        let some = works.or_else(|| of(Verdict::WorksForSome));
        match (works, some) {
            (Some(works), _)
                if parts
                    .iter()
                    .all(|part| part.judged.verdict == Verdict::Works) =>
            {
                works.judged.clone()
            }
            (_, Some(some)) => Judged {
                verdict: Verdict::WorksForSome,
                ..some.judged.clone()
            },
            _ => {
                let open = of(Verdict::Undecided).or_else(|| of(Verdict::Unknown));
                let open = open.or_else(|| of(Verdict::Conditional));
                let found = open.or_else(|| parts.iter().min_by_key(lowest));
                found.map_or_else(|| Judged::of(Verdict::Lost, 0), |part| part.judged.clone())
            }
        }
    }
}

/// Nature's choices as one verdict.
fn among(judged: Vec<(&Choice, Judged)>) -> Judged {
    let of = |verdict: Verdict| judged.iter().find(|(_, one)| one.verdict == verdict);
    let works = of(Verdict::Works);
    if let Some((_, works)) = works
        && judged.iter().all(|(_, one)| one.verdict == Verdict::Works)
    {
        return works.clone();
    }
    // What was given up may work as well; it counts only where nobody else fails.
    let fails = |one: &Judged| !matches!(one.verdict, Verdict::Works | Verdict::Undecided);
    if let Some((_, given_up)) = of(Verdict::Undecided)
        && !(works.is_some() && judged.iter().any(|(_, one)| fails(one)))
        && of(Verdict::WorksForSome).is_none()
    {
        return given_up.clone();
    }
    if let Some((_, example)) = works.or_else(|| of(Verdict::WorksForSome)) {
        let good = judged
            .iter()
            .filter(|(_, one)| one.verdict == Verdict::Works)
            .map(|(choice, _)| (*choice).clone());
        let mut good: Vec<Choice> = good.collect();
        let bad = judged
            .iter()
            .find(|(_, one)| one.verdict != Verdict::Works && one.verdict != Verdict::WorksForSome);
        let mut trail = bad.map_or(0, |(_, bad)| bad.trail);
        if let Some((inner, inner_trail)) = &example.some {
            good.extend(inner.iter().cloned());
            if bad.is_none() {
                trail = *inner_trail;
            }
        }
        return Judged {
            verdict: Verdict::WorksForSome,
            trail: example.trail,
            some: Some((good, trail)),
            conditions: Vec::new(),
            may_work: true,
        };
    }
    let open = of(Verdict::Unknown).or_else(|| of(Verdict::Conditional));
    open.unwrap_or(&judged[0]).1.clone()
}

/// A condition's two outcomes as one verdict.
fn turned(condition: &Condition, yes: Judged, no: Judged) -> Judged {
    use Verdict::{Conditional, Undecided, Unknown, Works, WorksForSome};
    let works = |one: &Judged| matches!(one.verdict, Works | WorksForSome);
    match (yes.verdict, no.verdict) {
        (Works, Works) => no,
        (Undecided, _) => yes,
        (_, Undecided) => no,
        (Unknown, _) => yes,
        (_, Unknown) => no,
        (WorksForSome, Works | WorksForSome) => yes,
        (Works, WorksForSome) => no,
        _ if works(&yes)
            || works(&no)
            || yes.verdict == Conditional
            || no.verdict == Conditional =>
        {
            let example = if works(&yes) {
                &yes
            } else if works(&no) || no.verdict == Conditional {
                &no
            } else {
                &yes
            };
            let mut conditions = vec![condition.clone()];
            for more in yes.conditions.iter().chain(&no.conditions) {
                if !conditions.contains(more) {
                    conditions.push(more.clone());
                }
            }
            Judged {
                conditions,
                ..Judged::of(Conditional, example.trail)
            }
        }
        _ => no,
    }
}
