//! The built program, driven on files in temporary folders.
