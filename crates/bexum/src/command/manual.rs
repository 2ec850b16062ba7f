//! Completions and the manual page, from the definition of the command line.

use bexum_core::name::nearest;
use clap_complete::{Generator as _, Shell};

use crate::args;
use crate::exit::Exit;
use crate::stream::{self, Helped};

pub(super) fn completions(shell: Shell) -> anyhow::Result<Exit> {
    let mut command = args::command();
    command.set_bin_name("bexum");
    command.build();
    let mut script = Vec::new();
    shell.try_generate(&command, &mut script)?;
    stream::print_exactly(&script)?;
    Ok(Exit::Done)
}

/// The page of one command, or of the program and then of every command.
pub(super) fn man(wanted: Option<&str>) -> anyhow::Result<Exit> {
    let mut program = args::command();
    program.build();
    let mut pages = Vec::new();
    if wanted.is_none() {
        clap_mangen::Man::new(program.clone()).render(&mut pages)?;
    }
    let mut found = wanted.is_none();
    for command in program.get_subcommands() {
        if wanted.is_none_or(|name| name == command.get_name()) {
            found = true;
            let name = format!("bexum-{}", command.get_name());
            let page = command.clone().display_name(&name).bin_name(&name).name(name);
            clap_mangen::Man::new(page).render(&mut pages)?;
        }
    }
    if !found {
        let wanted = wanted.unwrap_or_default();
        let near = nearest(wanted, program.get_subcommands().map(|command| command.get_name()));
        return Err(Helped::error(
            format!("there is no command `{wanted}`"),
            near.map(|near| format!("did you mean `{near}`?")),
        ));
    }
    stream::print_exactly(&pages)?;
    Ok(Exit::Done)
}
