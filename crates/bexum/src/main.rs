//! Bexum: write identity policies as files, ask what they decide, and read why.

mod args;
mod command;
mod command_line;
mod exit;
mod render;
mod terminal;

use std::process::ExitCode;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let run = match args::parse() {
        Ok(args) => {
            terminal::set_colour(args.colour);
            command::run(args)
        }
        Err(unread) => args::explain(unread),
    };
    match run {
        Ok(exit) => exit.into(),
        // Whoever wanted nothing but the output has seen enough. Runs whose exit code says
        // something by themselves never come here for this.
        Err(error) if terminal::is_closed_pipe(&error) => exit::Exit::Done.into(),
        Err(error) => {
            terminal::report(&error);
            exit::Exit::Failed.into()
        }
    }
}
