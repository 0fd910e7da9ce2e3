//! A view with what many questions share about it: made once, when first asked, and shared by all threads.

use crate::effective::{classes, stage_classes};
use heronshale_model::estate::{Estate, Id, Interface};
use heronshale_model::limits::Limits;
use heronshale_model::stated::Stated;
use heronshale_model::tuning::Tuning;
use heronshale_model::view::View;
use heronshale_sets::packet::for_all;
use std::ops::Deref;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

/// A view, and what is worked out on it once for all that ask.
pub struct Fabric<'e> {
    view: View<'e>,
    stage_classes: OnceLock<Vec<u32>>,
    class_numbers: OnceLock<Vec<u32>>,
    given_up: AtomicBool,
}

impl<'e> Deref for Fabric<'e> {
    type Target = View<'e>;

    fn deref(&self) -> &View<'e> {
        &self.view
    }
}

impl<'e> From<View<'e>> for Fabric<'e> {
    fn from(view: View<'e>) -> Self {
        Self {
            view,
            stage_classes: OnceLock::new(),
            class_numbers: OnceLock::new(),
            given_up: AtomicBool::new(false),
        }
    }
}

impl<'e> Fabric<'e> {
    /// A fabric on a view of an estate of which nothing is stated. `at` overrides the snapshot's own time.
    pub fn new(estate: &'e Estate, at: Option<jiff::Timestamp>) -> Self {
        Self::stating(estate, at, Stated::default())
    }

    /// The same, within other limits.
    pub fn within(estate: &'e Estate, limits: Limits) -> Self {
        View::new(estate, None, Tuning::default(), Stated::default())
            .within(limits)
            .into()
    }

    /// The same, with what is stated.
    pub fn stating(estate: &'e Estate, at: Option<jiff::Timestamp>, stated: Stated) -> Self {
        View::new(estate, at, Tuning::default(), stated).into()
    }

    /// For each interface the number of those whose stages are the same, as
    /// [`stage_classes`](crate::effective::stage_classes) says.
    pub fn stage_classes(&self) -> &[u32] {
        self.stage_classes
            .get_or_init(|| for_all(|| stage_classes(&self.view)))
    }

    /// For each interface the number of its class.
    pub fn class_numbers(&self) -> &[u32] {
        self.class_numbers.get_or_init(|| {
            let mut of = vec![0; self.estate.interfaces.len()];
            for (number, class) in (0_u32..).zip(for_all(|| classes(&self.view))) {
                for member in class.members {
                    of[member.index()] = number;
                }
            }
            of
        })
    }

    /// The class number of an interface.
    pub fn class_number(&self, interface: Id<Interface>) -> u32 {
        self.class_numbers()[interface.index()]
    }

    /// Says that a question was given up at a declared limit.
    pub fn give_up(&self) {
        self.given_up.store(true, Ordering::Relaxed);
    }

    /// Whether one of the questions so far was given up.
    pub fn gave_up(&self) -> bool {
        self.given_up.load(Ordering::Relaxed)
    }
}
