//! intake
