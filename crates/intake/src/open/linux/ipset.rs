//! `ipset save`: sets of addresses, ports and interfaces that rules of iptables name, as ipset(8) describes them.

use super::protocol;
use super::{Problem, Source, problem};
use crate::open::condition::{Condition, Devices};
use heronshale_sets::address::{Addresses, Block};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use rustc_hash::FxHashMap;

/// A set with more elements of several parts than this is not told apart.
const MOST_ELEMENTS: usize = 4096;

/// The sets of a machine by name.
#[derive(Debug, Default)]
pub(super) struct Sets {
    all: FxHashMap<String, Set>,
}

#[derive(Debug, Default)]
struct Set {
    /// What an element is made of: `ip`, `net`, `port`, `iface` …
    parts: Vec<String>,
    /// Whether elements go by themselves, or rules add them.
    moving: bool,
    /// The elements, and whether each is an exception.
    elements: Vec<(Vec<String>, bool)>,
}

/// Whether a text is what `ipset save` prints.
pub(super) fn is_saved(text: &str) -> bool {
    text.lines()
        .find(|line| !line.trim().is_empty() && !line.starts_with('#'))
        .is_some_and(|line| line.starts_with("create "))
}

impl Sets {
    /// Reads a file; a line that is neither of a set nor of an element is a problem.
    pub fn read(&mut self, source: &Source, problems: &mut Vec<Problem>) {
        let mut at = 0;
        for line in source.text.split_inclusive('\n') {
            let begin = at;
            at += line.len();
            let words: Vec<&str> = line.split_whitespace().collect();
            let read = match words.as_slice() {
                [] => Ok(()),
                [first, ..] if first.starts_with('#') => Ok(()),
                ["create", name, kind, options @ ..] => {
                    let parts = kind
                        .split_once(':')
                        .map_or("", |(_, parts)| parts)
                        .split(',')
                        .map(str::to_owned)
                        .collect();
                    let moving = options.contains(&"timeout");
                    self.all.insert(
                        (*name).to_owned(),
                        Set {
                            parts,
                            moving,
                            elements: Vec::new(),
                        },
                    );
                    Ok(())
                }
                ["add", name, element, options @ ..] => match self.all.get_mut(*name) {
                    Some(set) => {
                        let parts = element.split(',').map(str::to_owned).collect();
                        // Behind a comment stand words of people.
                        let except = options
                            .iter()
                            .take_while(|word| **word != "comment")
                            .any(|word| *word == "nomatch");
                        set.elements.push((parts, except));
                        Ok(())
                    }
                    None => Err(format!("no set `{name}` was created before")),
                },
                _ => Err(format!("`{}` is not a line of `ipset save`", line.trim())),
            };
            if let Err(what) = read {
                problems.push(problem(
                    source.file,
                    begin,
                    line.trim_end().len(),
                    what,
                    "give what `ipset save` prints",
                ));
            }
        }
    }

    /// That rules add to a set, or take from it.
    pub fn changes(&mut self, name: &str) {
        if let Some(set) = self.all.get_mut(name) {
            set.moving = true;
        }
    }

    /// The packets that a set matches, by the words of the rule (`src`, `dst,dst` …).
    ///
    /// # Errors
    /// Why nobody can tell.
    pub fn matching(
        &self,
        name: &str,
        ways: &str,
        devices: &Devices,
    ) -> Result<Vec<Condition>, String> {
        let set = self
            .all
            .get(name)
            .ok_or_else(|| format!("the set {name} is not among the files"))?;
        if set.moving {
            return Err(format!("the set {name} changes by itself"));
        }
        let ways: Vec<&str> = ways.split(',').collect();
        if set.parts == ["set"] {
            let members = set.elements.iter().filter_map(|(parts, _)| parts.first());
            let found: Result<Vec<_>, String> = members
                .map(|member| self.matching(member, &ways.join(","), devices))
                .collect();
            return found.map(|found| found.concat());
        }
        let not_understood = || format!("the set {name} is not understood");
        if ways.len() < set.parts.len() {
            return Err(not_understood());
        }
        if let [kind] = set.parts.as_slice()
            && matches!(kind.as_str(), "ip" | "net")
        {
            return set
                .addresses()
                .map(|found| vec![at(ways[0], found)])
                .ok_or_else(not_understood);
        }
        if set.elements.len() > MOST_ELEMENTS || set.elements.iter().any(|(_, except)| *except) {
            return Err(not_understood());
        }
        let one = |(values, _): &(Vec<String>, bool)| {
            let mut parts = set.parts.iter().zip(&ways).zip(values);
            let all = parts.try_fold(Condition::all(), |all, ((kind, way), value)| {
                Some(all.and(&part(kind, way, value, devices)?))
            });
            all.filter(|_| values.len() == set.parts.len())
        };
        set.elements
            .iter()
            .map(one)
            .collect::<Option<Vec<_>>>()
            .ok_or_else(not_understood)
    }
}

impl Set {
    /// The addresses of a set of nothing else: the longest prefix that holds one decides.
    fn addresses(&self) -> Option<Addresses> {
        let one = |(parts, except): &(Vec<String>, bool)| {
            let block: Block = parts.first()?.parse().ok()?;
            Some((block.range, *except))
        };
        let mut all = self.elements.iter().map(one).collect::<Option<Vec<_>>>()?;
        all.sort_by_key(|(range, _)| std::cmp::Reverse(range.last - range.first));
        if all.iter().all(|(_, except)| !except) {
            return Some(all.into_iter().map(|(range, _)| range).collect());
        }
        Some(
            all.into_iter()
                .fold(Addresses::empty(), |sum, (range, except)| {
                    let here: Addresses = [range].into_iter().collect();
                    if except {
                        sum.difference(&here)
                    } else {
                        sum.union(&here)
                    }
                }),
        )
    }
}

fn at(way: &str, addresses: Addresses) -> Condition {
    if way == "src" {
        Condition {
            source: addresses,
            ..Condition::all()
        }
    } else {
        Condition {
            destination: addresses,
            ..Condition::all()
        }
    }
}

/// The packets of which one part has a value.
fn part(kind: &str, way: &str, value: &str, devices: &Devices) -> Option<Condition> {
    match kind {
        "ip" | "net" => {
            let block: Block = value.parse().ok()?;
            Some(at(way, [block.range].into_iter().collect()))
        }
        "port" => {
            // A bitmap of ports alone is asked for TCP and UDP.
            let (numbers, ports) = match value.split_once(':') {
                Some((name, ports)) => (
                    vec![protocol(name).filter(|number| service::has_ports(*number))?],
                    ports,
                ),
                None => (vec![service::TCP, service::UDP], value),
            };
            let (first, last) = ports.split_once('-').unwrap_or((ports, ports));
            let (first, last) = (
                u128::from(first.parse::<u16>().ok()?),
                u128::from(last.parse::<u16>().ok()?),
            );
            let of = |each: &dyn Fn(u8) -> Intervals| {
                numbers
                    .iter()
                    .fold(Intervals::empty(), |sum, number| sum.union(&each(*number)))
            };
            Some(if way == "src" {
                let source_ports = Intervals::span(first, last);
                Condition {
                    source_ports,
                    services: of(&service::whole),
                    ..Condition::all()
                }
            } else {
                Condition::of_services(of(&|number| {
                    let base = u128::from(service::code(number, 0));
                    Intervals::span(base + first, base + last)
                }))
            })
        }
        "iface" => {
            let found = devices.matching(value).surely;
            let mut there = Condition::all();
            *(if way == "src" {
                &mut there.from
            } else {
                &mut there.to
            }) = found;
            Some(there)
        }
        _ => None,
    }
}
