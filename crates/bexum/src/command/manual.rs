//! Completions and the manual page, from the definition of the command line.

use clap_complete::{Generator as _, Shell};

use crate::args;
use crate::exit::Exit;
use crate::stream;

pub(super) fn completions(shell: Shell) -> anyhow::Result<Exit> {
    let mut command = args::command();
    command.set_bin_name("bexum");
    command.build();
    let mut script = Vec::new();
    shell.try_generate(&command, &mut script)?;
    stream::print_exactly(&script)?;
    Ok(Exit::Done)
}

pub(super) fn man() -> anyhow::Result<Exit> {
    let mut page = Vec::new();
    clap_mangen::Man::new(args::command()).render(&mut page)?;
    stream::print_exactly(&page)?;
    Ok(Exit::Done)
}
