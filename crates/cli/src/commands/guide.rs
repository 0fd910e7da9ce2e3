//! `heronshale guide`: from exports that nobody knows to a first audit.

use crate::commands::audit::Audit;
use crate::evidence::digest;
use crate::failure::{FOUND, Failure};
use crate::files::write_all;
use crate::opened::{Format, print};
use crate::spools::Spools;
use crate::terminal;
use clap::Args;
use heronshale_answers::with_heading;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{
    Exports, Question, Questions, answered_profile, exports, import, load_profile, load_questions,
    load_texts, wrong_answer,
};
use heronshale_model::coverage::{
    CoverageAnswer, GuideAnswer, GuideQuestion, GuidedList, loose_ends,
};
use heronshale_report as report;
use std::collections::BTreeSet;
use std::fs;
use std::io::IsTerminal;
use std::path::{Path, PathBuf};

/// From unknown exports to a first audit, by questions
///
/// Drafts a profile, asks what the exports do not say, makes a snapshot with a gap for every open question, and audits it. Asks on a
/// terminal; elsewhere write answers into questions.yaml and run the same command again. A profile edited by hand is kept. Ends with
/// 1 while a question is open, else like the audit.
#[derive(Args, Debug)]
pub struct Guide {
    /// The exports: files of JSON, JSON Lines and CSV, and folders of them
    #[arg(value_name = "FILE", required = true)]
    exports: Vec<PathBuf>,
    /// The folder for profile.yaml, questions.yaml and snapshot.yaml
    #[arg(long, value_name = "FOLDER")]
    into: PathBuf,
    /// Ask nothing on the terminal
    #[arg(long)]
    quiet: bool,
    /// Overwrite files that this command has not written
    #[arg(long)]
    force: bool,
    /// How to write the answer; the audit follows as text only
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

const PROFILE: &str = "profile.yaml";
const QUESTIONS: &str = "questions.yaml";
const SNAPSHOT: &str = "snapshot.yaml";

/// What the profile is, and what the lists of the exports are.
struct Profiled {
    lists: Vec<(String, String)>,
    by_hand: bool,
}

impl Guide {
    pub fn run(&self) -> Result<u8, Failure> {
        self.format.is_no_table()?;
        crate::files::finish(&self.into)?;
        let found = exports(&self.exports).map_err(Failure::exports)?;
        let path = self.into.join(QUESTIONS);
        let known = path.exists();
        let mut questions = if known {
            load_questions(&path).map_err(Failure::exports)?
        } else {
            Questions::default()
        };
        self.is_ours(SNAPSHOT, questions.imported.as_deref())?;
        let profiled = self.profile(&found, &mut questions, known)?;
        let (text, coverage) = self.snapshot(&found).inspect_err(|_| {
            let path = self.into.join(PROFILE);
            terminal::tell(&format!(
                "{} can be edited by hand; run the same command again to continue.\n",
                path.display()
            ));
        })?;
        questions.imported = Some(digest(text.as_bytes()));
        write_all(
            &self.into,
            &[(QUESTIONS, &questions.text()), (SNAPSHOT, &text)],
            true,
        )?;
        let open = !profiled.by_hand && questions.asked.iter().any(|one| one.answer.is_none());
        self.tell(&text, profiled, &questions, coverage)?;
        if self.format != Format::Text {
            return Ok(if open { FOUND } else { 0 });
        }
        print("\n")?;
        let audited = Audit::of(self.into.join(SNAPSHOT)).run()?;
        Ok(if open { FOUND } else { audited })
    }

    /// What is in the folder and was not written by this command stays as it is.
    fn is_ours(&self, name: &str, written: Option<&str>) -> Result<(), Failure> {
        let path = self.into.join(name);
        let Ok(bytes) = fs::read(&path) else {
            return Ok(());
        };
        if self.force || written == Some(digest(&bytes).as_str()) {
            return Ok(());
        }
        let what = format!(
            "{} was not written by this command, or was changed since",
            path.display()
        );
        Err(Failure::wrong(
            what,
            "name another folder with --into, or overwrite it with --force",
        ))
    }

    /// Drafts the profile, unless somebody changed it: then that is the profile.
    fn profile(
        &self,
        found: &Exports,
        questions: &mut Questions,
        known: bool,
    ) -> Result<Profiled, Failure> {
        let path = self.into.join(PROFILE);
        if let (true, Ok(bytes)) = (known, fs::read(&path))
            && questions.drafted.as_deref() != Some(digest(&bytes).as_str())
        {
            return Ok(Profiled {
                lists: Vec::new(),
                by_hand: true,
            });
        }
        if !known {
            self.is_ours(PROFILE, None)?;
        }
        let asks = !self.quiet && self.format == Format::Text && std::io::stdin().is_terminal();
        let mut passed = BTreeSet::new();
        let draft = loop {
            let draft = answered_profile(found, &questions.answers()).map_err(Failure::exports)?;
            questions.take(draft.questions.clone());
            if !asks || !self.ask(questions, &mut passed)? {
                break draft;
            }
        };
        questions.drafted = Some(digest(draft.text.as_bytes()));
        write_all(
            &self.into,
            &[(QUESTIONS, &questions.text()), (PROFILE, &draft.text)],
            true,
        )?;
        Ok(Profiled {
            lists: draft.told,
            by_hand: false,
        })
    }

    /// Asks on the terminal what is open, each question once, and keeps each answer; whether there was any.
    fn ask(
        &self,
        questions: &mut Questions,
        passed: &mut BTreeSet<String>,
    ) -> Result<bool, Failure> {
        let mut any = false;
        for at in 0..questions.asked.len() {
            let question = &questions.asked[at];
            if question.answer.is_some() || !passed.insert(question.about.clone()) {
                continue;
            }
            terminal::tell(&asked(at + 1, question));
            match reply(question)? {
                Reply::Enough => break,
                Reply::Open => {}
                Reply::Answer(answer) => {
                    questions.asked[at].answer = Some(answer);
                    write_all(&self.into, &[(QUESTIONS, &questions.text())], true)?;
                    any = true;
                }
            }
        }
        Ok(any)
    }

    fn snapshot(&self, found: &Exports) -> Result<(String, CoverageAnswer), Failure> {
        let profile = load_profile(&self.into.join(PROFILE)).map_err(Failure::exports)?;
        let mut spools = Spools::default();
        let bar = terminal::progress(found.bytes());
        let passes = import(
            &profile,
            found,
            &mut |section, text| spools.take(section, text),
            &mut |bytes| bar.inc(bytes),
        );
        bar.finish_and_clear();
        let coverage = passes.map_err(Failure::exports)?;
        let mut text = Vec::new();
        let failed = |error| Failure::Io {
            what: "cannot write the snapshot".to_owned(),
            error,
        };
        spools
            .assemble(&coverage.profile, &mut text)
            .map_err(failed)?;
        Ok((String::from_utf8_lossy(&text).into_owned(), coverage))
    }

    fn tell(
        &self,
        text: &str,
        profiled: Profiled,
        questions: &Questions,
        mut coverage: CoverageAnswer,
    ) -> Result<(), Failure> {
        let snapshot = load_texts(&[(SNAPSHOT, text)]).map_err(Failure::exports)?;
        coverage.written = self.into.join(SNAPSHOT).display().to_string();
        coverage.dangling = loose_ends(&snapshot.estate);
        let answer = GuideAnswer {
            folder: shown(&self.into),
            by_hand: profiled.by_hand,
            lists: profiled
                .lists
                .into_iter()
                .map(|(place, what)| GuidedList { place, what })
                .collect(),
            questions: questions
                .asked
                .iter()
                .enumerate()
                .map(|(at, one)| told(at + 1, one))
                .collect(),
            coverage,
        };
        let view = Fabric::new(&snapshot.estate, snapshot.estate.taken);
        let whole = with_heading(&view, "guide", answer);
        match self.format {
            Format::Text => print(&report::guide(&whole, terminal::look_of_stdout())),
            Format::Json | Format::Csv => print(&report::json(&whole)),
        }
    }
}

fn shown(path: &Path) -> String {
    path.display().to_string()
}

fn told(number: usize, question: &Question) -> GuideQuestion {
    let Question {
        ask,
        seen,
        choices,
        guess,
        otherwise,
        answer,
        about: _,
    } = question.clone();
    GuideQuestion {
        number,
        ask,
        seen,
        choices,
        likely: guess,
        until_then: otherwise,
        answer,
    }
}

/// What somebody said to a question.
enum Reply {
    Answer(String),
    /// It stays open.
    Open,
    /// Nothing more is to be asked.
    Enough,
}

/// Asks until the answer is one.
fn reply(question: &Question) -> Result<Reply, Failure> {
    loop {
        let enter = question.guess.as_deref().unwrap_or("skip");
        terminal::tell(&format!("   Enter: {enter}; -: skip; q: stop asking > "));
        let mut line = String::new();
        let failed = |error| Failure::Io {
            what: "cannot read the answer".to_owned(),
            error,
        };
        if std::io::stdin().read_line(&mut line).map_err(failed)? == 0 {
            return Ok(Reply::Enough);
        }
        let answer = match line.trim() {
            "q" => return Ok(Reply::Enough),
            "-" => return Ok(Reply::Open),
            "" => question.guess.clone(),
            given => Some(chosen(question, given).unwrap_or_else(|| given.to_owned())),
        };
        let Some(answer) = answer else {
            return Ok(Reply::Open);
        };
        match wrong_answer(question, &answer) {
            None => return Ok(Reply::Answer(answer)),
            Some((what, hint)) => {
                terminal::tell(&format!("   {}: {hint}\n", report::harmless_text(&what)))
            }
        }
    }
}

/// A question as the terminal shows it.
fn asked(number: usize, question: &Question) -> String {
    const IN_A_LINE: usize = 6;
    let mut told = format!("\n{number}. {}\n", report::harmless_text(&question.ask));
    if !question.seen.is_empty() {
        told += &format!("   seen: {}\n", report::harmless_text(&question.seen));
    }
    let choices: Vec<String> = question
        .choices
        .iter()
        .enumerate()
        .map(|(at, choice)| format!("{} {choice}", at + 1))
        .collect();
    for line in choices.chunks(IN_A_LINE) {
        told += &format!("   {}\n", line.join(", "));
    }
    if choices.is_empty() {
        told += "   a path, such as $.zone\n";
    }
    told + &format!("   if unanswered: {}\n", question.otherwise)
}

/// The choice with a number.
fn chosen(question: &Question, number: &str) -> Option<String> {
    let at = number.parse::<usize>().ok()?.checked_sub(1)?;
    question.choices.get(at).cloned()
}
