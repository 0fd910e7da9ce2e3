//! The file of questions that a drafted profile leaves open, and of the answers to them.

use super::draft::Question;
use crate::document::{Documents, schema_of};
use crate::files::LoadError;
use crate::reading::{Many, Prose, Reading, Required, Spanned, did_you_mean, record};
use heronshale_model::estate::Name;
use serde_json::Value as Json;
use std::collections::BTreeMap;
use std::fmt::Write;
use std::path::Path;

/// What a file of questions says in its field `format`.
pub const QUESTIONS: &str = "heronshale-questions";

record! {
    /// What exports do not say by themselves, and what people say of it.
    WrittenQuestions as "the questions" {
        /// `heronshale-questions`.
        format: Required<Spanned<Name>>,
        /// 1.
        version: Required<Spanned<u32>>,
        /// The digest (SHA-256) of the profile that was drafted: one that differs was changed by hand, and is kept.
        drafted: Option<Name>,
        /// The digest (SHA-256) of the snapshot that was made by it.
        imported: Option<Name>,
        /// The questions, in the order in which they came up.
        questions: Many<WrittenQuestion>,
    }
}

record! {
    /// A question.
    WrittenQuestion as "a question" {
        /// What it is about: by this an answer is found again.
        about: Required<Spanned<Prose>>,
        /// The question.
        ask: Option<Prose>,
        /// What stands in the exports.
        seen: Option<Prose>,
        /// The answers that can be given. Without any the answer is a JSONPath from the object, such as $.zone.
        choices: Many<Prose>,
        /// The likely answer.
        likely: Option<Prose>,
        /// What holds without an answer.
        until_then: Option<Prose>,
        /// The answer; "" is none.
        answer: Option<Spanned<Prose>>,
    }
}

/// Questions that were asked so far.
#[derive(Debug, Default)]
pub struct Questions {
    /// The digest of the profile that was drafted.
    pub drafted: Option<String>,
    /// The digest of the snapshot that was made by it.
    pub imported: Option<String>,
    /// The questions, in the order in which they came up.
    pub asked: Vec<Question>,
}

impl Questions {
    /// The answers, by what the questions are about.
    pub fn answers(&self) -> BTreeMap<String, String> {
        let answered =
            |one: &Question| one.answer.clone().map(|answer| (one.about.clone(), answer));
        self.asked.iter().filter_map(answered).collect()
    }

    /// Takes what is asked now: those that are known keep their place, and those that are no longer asked keep their answer.
    pub fn take(&mut self, now: Vec<Question>) {
        self.asked.retain(|known| {
            known.answer.is_some() || now.iter().any(|one| one.about == known.about)
        });
        for one in now {
            match self.asked.iter_mut().find(|known| known.about == one.about) {
                Some(known) => *known = one,
                None => self.asked.push(one),
            }
        }
    }

    /// The file.
    pub fn text(&self) -> String {
        let quoted = |text: &str| Json::from(text).to_string();
        let mut out = format!(
            "# What the exports do not say by themselves. Write an answer after `answer:`, and run the same command again.\n\
             format: {QUESTIONS}\nversion: 1\n"
        );
        for (name, digest) in [("drafted", &self.drafted), ("imported", &self.imported)] {
            if let Some(digest) = digest {
                let _ = writeln!(out, "{name}: {}", quoted(digest));
            }
        }
        out.push_str(if self.asked.is_empty() {
            "questions: []\n"
        } else {
            "questions:\n"
        });
        for (at, one) in self.asked.iter().enumerate() {
            let choices: Vec<String> = one.choices.iter().map(|choice| quoted(choice)).collect();
            let _ = writeln!(
                out,
                "  # {}\n  - about: {}\n    ask: {}",
                at + 1,
                quoted(&one.about),
                quoted(&one.ask)
            );
            if !one.seen.is_empty() {
                let _ = writeln!(out, "    seen: {}", quoted(&one.seen));
            }
            let _ = writeln!(out, "    choices: [{}]", choices.join(", "));
            if let Some(guess) = &one.guess {
                let _ = writeln!(out, "    likely: {}", quoted(guess));
            }
            let _ = writeln!(out, "    until_then: {}", quoted(&one.otherwise));
            let _ = writeln!(
                out,
                "    answer: {}",
                quoted(one.answer.as_deref().unwrap_or_default())
            );
        }
        out
    }
}

/// Why a text is not an answer to a question, and what would be one.
pub fn wrong_answer(question: &Question, answer: &str) -> Option<(String, String)> {
    if question.choices.is_empty() {
        let hint = || "write a JSONPath from the object, such as $.zone".to_owned();
        return (!answer.starts_with('$'))
            .then(|| (format!("`{answer}` is not a path to a field"), hint()));
    }
    if question.choices.iter().any(|choice| choice == answer) {
        return None;
    }
    let all = || format!("write one of {}", question.choices.join(", "));
    let hint =
        did_you_mean(answer, question.choices.iter().map(String::as_str)).unwrap_or_else(all);
    Some((
        format!("`{answer}` is not an answer to this question"),
        hint,
    ))
}

fn question(written: WrittenQuestion, at: &mut Reading) -> Question {
    let text = |prose: Option<Prose>| prose.map(|prose| prose.0.to_string());
    let mut read = Question {
        about: written.about.0.value.0.to_string(),
        ask: text(written.ask).unwrap_or_default(),
        seen: text(written.seen).unwrap_or_default(),
        choices: written
            .choices
            .0
            .into_iter()
            .map(|choice| choice.0.to_string())
            .collect(),
        guess: text(written.likely),
        otherwise: text(written.until_then).unwrap_or_default(),
        answer: None,
    };
    let Some(answer) = written
        .answer
        .filter(|answer| !answer.value.0.trim().is_empty())
    else {
        return read;
    };
    let given = answer.value.0.trim().to_owned();
    match wrong_answer(&read, &given) {
        Some((title, hint)) => at.fail(answer.span, title, "here", Some(hint)),
        None => read.answer = Some(given),
    }
    read
}

/// Reads a file of questions.
///
/// # Errors
/// If it cannot be reached, or used: all that is wrong with it.
pub fn load_questions(path: &Path) -> Result<Questions, LoadError> {
    let mut documents = Documents::default();
    let name = path
        .file_name()
        .unwrap_or(path.as_os_str())
        .to_string_lossy()
        .into_owned();
    let written = documents.read::<WrittenQuestions>(&name, path)?;
    let mut read = Questions::default();
    if let Some(written) = written {
        documents.check_header(&written.format.0, &written.version.0, QUESTIONS);
        read.drafted = written.drafted.map(|digest| digest.to_string());
        read.imported = written.imported.map(|digest| digest.to_string());
        read.asked = written
            .questions
            .0
            .into_iter()
            .map(|one| question(one, &mut documents.reading))
            .collect();
    }
    documents.finish(read)
}

/// The schema of files of questions.
pub fn questions_schema() -> Json {
    schema_of::<WrittenQuestions>("Heronshale questions, version 1")
}
