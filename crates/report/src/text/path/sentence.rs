//! The answer in one sentence, with the piece that decides it.

use super::{cause, shortened, traffic_text};
use heronshale_answers::{PathAnswer, PathPart, Symptom};
use heronshale_audit::facts::{StepDoes, StepFact};
use heronshale_engine::walk::Verdict;

/// The answer to what was asked.
pub(super) fn sentence(path: &PathAnswer) -> String {
    let what = what(path);
    let last = path.steps.iter().chain(&path.fails).last();
    let ended = last.map_or_else(String::new, ended);
    if let Some(zone) = &path.missing_zone {
        return format!(
            "Unknown: {what} depends on {zone}, which is missing from the snapshot and may resolve the name otherwise."
        );
    }
    if path.symptom == Some(Symptom::NameError) {
        let by = path.lookups.last().map_or_else(String::new, |lookup| {
            format!(": {} has no record of {}", lookup.by, lookup.name)
        });
        return format!(
            "No: the name {} does not resolve{by}. The client sees a name error.",
            path.to.asked
        );
    }
    if path.parts.is_empty() {
        return format!("Nothing to ask {what}: the two ends share no address family.");
    }
    match path.verdict {
        Verdict::Works => works(path, &what),
        Verdict::WorksForSome => partly(path, &what),
        Verdict::Conditional => {
            let all = path.parts.iter().flat_map(|part| &part.conditions);
            let conditions: Vec<&str> = all.map(String::as_str).collect();
            format!(
                "It depends: {what} works only if {}.",
                conditions.join(", and only if ")
            )
        }
        Verdict::Undecided => {
            format!("Undecided: {what} has more possible ways than the limit of steps allows.")
        }
        Verdict::Unknown => format!("Unknown: {what} {ended}."),
        Verdict::Denied | Verdict::Lost => format!("No: {what} {ended}.{}", sees(path)),
        Verdict::ReplyDenied | Verdict::ReplyLost => {
            format!("No: {what} arrives, but the reply {ended}.{}", sees(path))
        }
    }
}

/// `tcp 443 from desk-1 to https://203.0.113.30`.
fn what(path: &PathAnswer) -> String {
    let traffic = path.traffic.as_ref();
    let traffic = traffic.map_or_else(
        || "traffic".to_owned(),
        |traffic| {
            let services: Vec<String> = traffic.split(", ").map(str::to_owned).collect();
            shortened(&services, 8)
        },
    );
    format!("{traffic} from {} to {}", path.from.asked, path.to.asked)
}

fn sees(path: &PathAnswer) -> &'static str {
    match path.symptom {
        Some(Symptom::Silence) => " The client sees a timeout.",
        Some(Symptom::Reset) => " The client sees a refused connection.",
        Some(Symptom::NameError) => " The client sees a name error.",
        None => "",
    }
}

/// How it ended: `is blocked by group desks, inbound at files-1: no rule matches`.
fn ended(step: &StepFact) -> String {
    let cause = cause(step);
    match step.does {
        StepDoes::Denies => format!("is blocked by {cause}"),
        StepDoes::Rejects => format!("is rejected by {cause}"),
        StepDoes::Unknown => format!("depends on {cause}"),
        _ => format!("is dropped at {cause}"),
    }
}

/// It works: by which firewalls, and as whom the sender is seen.
fn works(path: &PathAnswer, what: &str) -> String {
    let mut text = format!("Yes: {what} works, there and back.");
    if path.parts.len() > 1 || path.example.is_none() {
        return text;
    }
    let passes = |reply: bool| {
        let steps = path.steps.iter().filter(move |step| step.reply == reply);
        let mut names: Vec<&str> = steps.filter_map(|step| step.firewall.as_deref()).collect();
        names.sort_unstable();
        names.dedup();
        names
    };
    let (there, back) = (passes(false), passes(true));
    let mut clauses = Vec::new();
    if !there.is_empty() {
        let many = if there.len() == 1 {
            "firewall"
        } else {
            "firewalls"
        };
        let both = if there == back { " both ways" } else { "" };
        clauses.push(format!("it passes {many} {}{both}", there.join(", ")));
    }
    let requests = path.steps.iter().filter(|step| !step.reply);
    let arrives = requests
        .clone()
        .find(|step| step.does == StepDoes::Arrives)
        .map(|step| step.at.clone());
    let seen = requests.filter_map(|step| step.source.clone()).next_back();
    if let (Some(arrives), Some(seen)) = (arrives, seen) {
        clauses.push(format!("{arrives} sees {seen}"));
    }
    let decides = path.steps.iter().rfind(|step| !step.reply && step.decides);
    match (clauses.is_empty(), decides) {
        (true, Some(step)) => text.push_str(&format!(" The last check is {}.", cause(step))),
        (true, None) => {
            let routes = |step: &&StepFact| !step.reply && step.does == StepDoes::Routes;
            let mut written = path.steps.iter().filter(routes);
            let written = written.rfind(|step| step.place.is_some());
            if let Some(step) = written.or(path.steps.iter().rfind(routes)) {
                text.push_str(&format!(
                    " No filter decides; the route is {}.",
                    cause(step)
                ));
            }
        }
        (false, _) => {
            let mut said = clauses.join("; ");
            // What begins with a name keeps it as it is written.
            if said.starts_with("it ") || said.starts_with("the ") {
                said[..1].make_ascii_uppercase();
            }
            text.push_str(&format!(" {said}."));
        }
    }
    text
}

/// Some of it works: which, and what blocks the rest.
fn partly(path: &PathAnswer, what: &str) -> String {
    let of = |wanted: fn(Verdict) -> bool| -> Vec<&PathPart> {
        path.parts
            .iter()
            .filter(|part| wanted(part.verdict))
            .collect()
    };
    let good = of(|verdict| verdict < Verdict::Conditional);
    let open = of(|verdict| verdict == Verdict::Conditional);
    let bad = of(|verdict| verdict > Verdict::Conditional);
    let only: Vec<&str> = good
        .iter()
        .flat_map(|part| &part.only_if)
        .map(String::as_str)
        .collect();
    if bad.is_empty() {
        let when = if only.is_empty() {
            "on some of its possible ways".to_owned()
        } else {
            format!("if {}", only.join(", or if "))
        };
        let last = path.fails.last();
        let otherwise = last.map_or_else(String::new, |step| {
            format!(" Otherwise {} {}.", the(step), ended(step))
        });
        return format!("Sometimes: {what} works only {when}.{otherwise}");
    }
    let mut causes: Vec<&StepFact> = Vec::new();
    for step in bad.iter().filter_map(|part| part.because.as_ref()) {
        if !causes.iter().any(|known| cause(known) == cause(step)) {
            causes.push(step);
        }
    }
    let rest = match causes.as_slice() {
        [] => String::new(),
        [one] => format!(" {} {}.", the_rest(one), ended(one)),
        [first, ..] => format!(
            " {} is blocked or dropped in {} places, first by {}.",
            the_rest(first),
            causes.len(),
            cause(first)
        ),
    };
    let when = if only.is_empty() {
        String::new()
    } else {
        format!(", if {}", only.join(", or if "))
    };
    let depends = depends(&open, &bad);
    if good.is_empty() {
        return format!("Partly: {what} works under a condition only.{depends}{rest}");
    }
    let others: Vec<&PathPart> = open.iter().chain(&bad).copied().collect();
    format!(
        "Partly: {what} works {} only{when}.{depends}{rest}",
        scope(&good, &others)
    )
}

/// What works under a condition, and under which.
fn depends(open: &[&PathPart], bad: &[&PathPart]) -> String {
    if open.is_empty() {
        return String::new();
    }
    let mut conditions: Vec<String> = Vec::new();
    for text in open.iter().flat_map(|part| &part.conditions) {
        if !conditions.contains(text) {
            conditions.push(text.clone());
        }
    }
    let when = shortened(&conditions, 2);
    format!(" It works {} only if {when}.", scope(open, bad))
}

fn the(step: &StepFact) -> &'static str {
    if step.reply { "the reply" } else { "it" }
}

fn the_rest(step: &StepFact) -> &'static str {
    if step.reply {
        "The reply to everything else"
    } else {
        "Everything else"
    }
}

/// What works of what was asked, by the first thing in which it differs from what does not.
fn scope(good: &[&PathPart], bad: &[&PathPart]) -> String {
    let families = |parts: &[&PathPart]| {
        let ranges = parts
            .iter()
            .flat_map(|part| &part.traffic)
            .flat_map(|traffic| &traffic.sources.ranges);
        let mut six: Vec<bool> = ranges.map(|range| range.contains(':')).collect();
        six.sort_unstable();
        six.dedup();
        six
    };
    match (families(good).as_slice(), families(bad).as_slice()) {
        ([false], [true]) => return "over IPv4".to_owned(),
        ([true], [false]) => return "over IPv6".to_owned(),
        _ => {}
    }
    let traffic: Vec<_> = good.iter().flat_map(|part| &part.traffic).collect();
    let whole = |of: &dyn Fn(&heronshale_audit::facts::PathTraffic) -> bool| {
        traffic.iter().all(|one| of(one))
    };
    let from_all = whole(&|one| one.sources.whole);
    let to_all = whole(&|one| one.destinations.whole);
    let mut texts: Vec<String> = Vec::new();
    for one in &traffic {
        let same_services = {
            let bad = bad.iter().flat_map(|part| &part.traffic);
            bad.clone().count() > 0 && bad.clone().all(|other| other.services == one.services)
        };
        let text = match (from_all, to_all) {
            (false, true) if same_services => format!("from {}", one.sources.said),
            (true, false) if same_services => format!("to {}", one.destinations.said),
            (true, true) => format!("for {}", shortened(&one.services, 6)),
            _ => format!("for {}", traffic_text(one)),
        };
        if !texts.contains(&text) {
            texts.push(text);
        }
    }
    shortened(&texts, 3)
}
