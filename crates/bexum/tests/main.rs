//! The built program, driven on files in temporary folders.

mod ask;
mod by;
mod by_own;
mod corners;
mod declared;
mod demo;
mod discovery;
mod docs;
mod edit;
mod edit_writing;
mod faults;
mod impact;
mod laws;
mod mishaps;
mod order;
mod prove;
mod reach;
mod replay;
mod review;
mod shapes;
mod show;
mod support;
mod usage;
mod vet;
mod ways;
