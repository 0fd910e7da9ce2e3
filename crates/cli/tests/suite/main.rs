//! One test binary: the built program on files in fresh folders, and the engine against a naive evaluator.

mod oracle;
