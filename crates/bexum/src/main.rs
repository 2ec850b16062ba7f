//! Bexum: write identity policies as files, ask what they decide, and read why.

mod args;
mod command;
mod exit;
mod render;
mod stream;
mod wire;

use std::process::ExitCode;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let args = args::parse();
    stream::set_colour(args.colour);
    match command::run(args) {
        Ok(exit) => exit.into(),
        Err(error) if stream::is_closed_pipe(&error) => exit::Exit::Done.into(),
        Err(error) => {
            stream::report(&error);
            exit::Exit::Failed.into()
        }
    }
}
