//! Known faults that tests plant into the crates above, to see that they are caught.
//!
//! Each crate declares its own by [`known_faults!`](crate::known_faults). Without the feature `seeded-faults` every
//! question here is answered by a constant `false`, and nothing of it is in the program.

/// A fault of some crate: the crate, and the number of the fault there.
pub type Planted = (&'static str, u16);

/// Declares the known faults of a crate: the enum, and `has`, the question whether one is planted on this thread.
#[macro_export]
macro_rules! known_faults {
    ($(#[$about:meta])* pub enum $name:ident { $($(#[$each:meta])* $fault:ident),* $(,)? }) => {
        $(#[$about])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        #[allow(missing_docs, reason = "the names say it")]
        pub enum $name { $($(#[$each])* $fault),* }

        impl From<$name> for $crate::faults::Planted {
            fn from(fault: $name) -> Self {
                (env!("CARGO_PKG_NAME"), fault as u16)
            }
        }

        /// Whether this fault is planted on this thread.
        pub(crate) fn has(fault: $name) -> bool {
            $crate::faults::is_planted(|| fault.into())
        }
    };
}

#[cfg(feature = "seeded-faults")]
mod seeded {
    use super::Planted;
    use std::cell::Cell;

    thread_local! {
        static CURRENT: Cell<Option<Planted>> = const { Cell::new(None) };
    }

    /// Whether this fault is planted on this thread.
    pub fn is_planted(fault: impl FnOnce() -> Planted) -> bool {
        CURRENT.get().is_some_and(|current| current == fault())
    }

    /// Runs something on this thread with one fault planted.
    pub fn with_fault<T>(fault: impl Into<Planted>, run: impl FnOnce() -> T) -> T {
        under(Some(fault.into()), run)
    }

    /// The fault of this thread, for those that work for it.
    pub fn carried() -> Option<Planted> {
        CURRENT.get()
    }

    /// Runs something on this thread with what another thread carries.
    pub fn under<T>(fault: Option<Planted>, run: impl FnOnce() -> T) -> T {
        let before = CURRENT.replace(fault);
        let result = run();
        CURRENT.set(before);
        result
    }
}

#[cfg(feature = "seeded-faults")]
pub use seeded::{carried, is_planted, under, with_fault};

/// Whether a fault is planted: never.
#[cfg(not(feature = "seeded-faults"))]
pub fn is_planted(_: impl FnOnce() -> Planted) -> bool {
    false
}

/// The fault of this thread: none.
#[cfg(not(feature = "seeded-faults"))]
pub const fn carried() -> Option<Planted> {
    None
}

/// Runs something.
#[cfg(not(feature = "seeded-faults"))]
pub fn under<T>(_: Option<Planted>, run: impl FnOnce() -> T) -> T {
    run()
}
