//! The built program, as its users meet it.

mod answers;
mod cases;
mod collecting;
mod documents;
mod exports;
mod figure;
mod findings;
mod fingerprints;
mod growth;
mod hostile;
mod imports;
mod input;
mod lacking;
mod machines;
mod mends;
mod openings;
mod reader;
mod situations;
mod stated;
mod stopped;
mod story;
mod sturdy;
mod sweeps;
mod tidy;
mod verdicts;
mod ways;
