//! Completions and the manual page, from the definition of the command line.

use bexum_core::name::nearest;
use clap_complete::{Generator as _, Shell};

use crate::args;
use crate::exit::Exit;
use crate::terminal::{self, Helped};

/// Bash cuts words at colons and equals signs: what is not apart in the line is put together
/// again, and of the answers only what comes after the last cut is given back.
const BASH: &str = r#"# Completion of bexum for bash: names come from the estate at hand.
_bexum() {
    local rest=$COMP_LINE words=() n=-1 i piece line stem cut
    for ((i = 0; i <= COMP_CWORD; i++)); do
        piece=${COMP_WORDS[i]}
        if [[ $i == 0 || $rest == [[:space:]]* ]]; then
            n=$((n + 1))
            words[n]=
        fi
        rest=${rest#"${rest%%[![:space:]]*}"}
        words[n]+=$piece
        rest=${rest#"$piece"}
    done
    stem=${words[n]##*[:=]}
    cut=${words[n]%"$stem"}
    COMPREPLY=()
    while IFS= read -r line; do
        COMPREPLY+=("${line#"$cut"}")
    done < <(bexum words -- "${words[@]}" 2>/dev/null)
    if [[ ${#COMPREPLY[@]} == 1 && ${COMPREPLY[0]} == *[:=/] ]]; then
        compopt -o nospace
    fi
}
complete -o default -F _bexum bexum
"#;

const ZSH: &str = r#"#compdef bexum
# Completion of bexum for zsh: names come from the estate at hand.
_bexum() {
    local -a found
    found=("${(@f)$(bexum words -- "${(@)words[1,CURRENT]}" 2>/dev/null)}")
    if [[ -n ${found[1]} ]]; then
        compadd -- "${found[@]}"
    else
        _files
    fi
}
if [[ ${funcstack[1]} == _bexum ]]; then
    _bexum "$@"
else
    compdef _bexum bexum
fi
"#;

const FISH: &str = r#"# Completion of bexum for fish: names come from the estate at hand.
complete -c bexum -f -a '(bexum words -- (commandline -opc) (commandline -ct) 2>/dev/null)'
"#;

pub(super) fn completions(shell: Shell) -> anyhow::Result<Exit> {
    let own = match shell {
        Shell::Bash => Some(BASH),
        Shell::Zsh => Some(ZSH),
        Shell::Fish => Some(FISH),
        _ => None,
    };
    if let Some(script) = own {
        terminal::print_exactly(script.as_bytes())?;
        return Ok(Exit::Done);
    }
    let mut command = args::command();
    command.set_bin_name("bexum");
    command.build();
    let mut script = Vec::new();
    shell.try_generate(&command, &mut script)?;
    terminal::print_exactly(&script)?;
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
    for command in program.get_subcommands().filter(|command| !command.is_hide_set()) {
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
    terminal::print_exactly(&pages)?;
    Ok(Exit::Done)
}
