//! A trivial program with clap: two options, two commands, and a name to print.

use clap::{Parser, Subcommand};

/// Greet somebody
#[derive(Parser)]
#[command(version)]
struct Cli {
    /// Print more
    #[arg(long, global = true)]
    verbose: bool,
    /// Print only failures
    #[arg(long, global = true)]
    quiet: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Say hello
    Hello { name: String },
    /// Say goodbye
    Goodbye { name: String },
}

fn main() {
    let cli = Cli::parse();
    let (word, name) = match cli.command {
        Command::Hello { name } => ("hello", name),
        Command::Goodbye { name } => ("goodbye", name),
    };
    if !cli.quiet {
        println!("{word} {name}{}", if cli.verbose { ", at length" } else { "" });
    }
}
