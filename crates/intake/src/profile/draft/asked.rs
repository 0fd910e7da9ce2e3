//! What the exports do not say by themselves: questions, and the answers that were given.

use std::collections::BTreeMap;

/// A question about exports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Question {
    /// What it is about: the place in the exports, and what of it. No other question has the same.
    pub about: String,
    /// The question.
    pub ask: String,
    /// What stands in the exports.
    pub seen: String,
    /// The answers that can be given; none if any field of the exports may be named.
    pub choices: Vec<String>,
    /// The likely answer.
    pub guess: Option<String>,
    /// What becomes of it without an answer.
    pub otherwise: String,
    /// The answer that was given.
    pub answer: Option<String>,
}

/// Where answers come from.
pub(super) enum Answers<'a> {
    /// What is likely counts.
    Guessed,
    /// What people said counts, by what it is about.
    Given(&'a BTreeMap<String, String>),
}

/// Asks.
pub(super) struct Asker<'a> {
    pub answers: Answers<'a>,
    pub asked: Vec<Question>,
}

impl Asker<'_> {
    /// The answer to a question, if there is one.
    pub fn ask(&mut self, mut question: Question) -> Option<String> {
        if let Some(before) = self
            .asked
            .iter()
            .find(|other| other.about == question.about)
        {
            return before.answer.clone();
        }
        question.answer = match self.answers {
            Answers::Guessed => question.guess.clone(),
            Answers::Given(given) => given.get(&question.about).cloned(),
        };
        self.asked.push(question.clone());
        question.answer
    }

    /// Whether somebody answered a question, asked or still to be asked.
    pub fn is_answered(&self, about: &str) -> bool {
        matches!(self.answers, Answers::Given(given) if given.contains_key(about))
    }

    /// Whether what is likely is taken for true.
    pub fn guesses(&self) -> bool {
        matches!(self.answers, Answers::Guessed)
    }
}
