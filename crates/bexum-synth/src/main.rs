//! Writes a large made-up estate, or a log of requests for it.

use std::io::Write as _;
use std::path::PathBuf;

use anyhow::{Context as _, bail};
use bexum_synth::{Layout, Model, Requests, Size, write_estate};
use clap::{Parser, Subcommand};

/// Large made-up estates and request logs, the same for the same size and seed.
#[derive(Debug, Parser)]
#[command(name = "bexum-synth")]
struct Args {
    /// S, M, L or XL
    #[arg(long, default_value = "L", global = true)]
    size: String,
    /// What chance starts from
    #[arg(long, default_value_t = 7, global = true)]
    seed: u64,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Write the estate into a new folder
    Estate {
        /// The folder
        dir: PathBuf,
        /// Everything in one file, instead of many of about 50 kB
        #[arg(long)]
        one_file: bool,
        /// Declare what lies below others before them
        #[arg(long)]
        children_first: bool,
        /// Add this many checks
        #[arg(long, default_value_t = 0)]
        checks: usize,
        /// Add this many laws
        #[arg(long, default_value_t = 0)]
        laws: usize,
        /// Plant things that are not right, for `bexum vet` to find
        #[arg(long)]
        planted: bool,
    },
    /// Write requests to standard output, one a line
    Requests {
        /// How many
        #[arg(default_value_t = 1_000_000)]
        count: usize,
        /// Over so many days, of people with habits: some stop, all leave much of what they have unused
        #[arg(long, value_name = "N")]
        days: Option<u32>,
    },
    /// Write a log of half a year that goes with the demo estate to standard output
    DemoLog,
}

fn main() -> anyhow::Result<()> {
    let args = Args::parse();
    let Some(size) = Size::named(&args.size) else { bail!("a size is S, M, L or XL") };
    let model = Model::new(size, args.seed);
    match args.command {
        Command::Estate { dir, one_file, children_first, checks, laws, planted } => {
            if dir.exists() {
                bail!("`{}` is there already", dir.display());
            }
            let layout = Layout { one_file, children_first, checks, laws, planted };
            write_estate(&model, &dir, layout)?;
        }
        Command::DemoLog => {
            let log = bexum_synth::demo_log(args.seed);
            std::io::stdout().lock().write_all(log.as_bytes()).context("cannot write")?;
        }
        Command::Requests { count, days } => {
            let mut out = std::io::BufWriter::new(std::io::stdout().lock());
            let mut requests = Requests::new(&model, args.seed);
            let mut line = String::new();
            for id in 0..count {
                line.clear();
                match days {
                    Some(days) => requests.write_habit(id, days, &mut line),
                    None => requests.write_line(id, &mut line),
                }
                out.write_all(line.as_bytes()).context("cannot write")?;
            }
            out.flush().context("cannot write")?;
        }
    }
    Ok(())
}
