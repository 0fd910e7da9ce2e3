//! report
