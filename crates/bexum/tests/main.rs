//! The built program, driven on files in temporary folders.

mod ask;
mod demo;
mod discovery;
mod faults;
mod order;
mod replay;
mod show;
mod support;
