//! The program.
fn main(){}
