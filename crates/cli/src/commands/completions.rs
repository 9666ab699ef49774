//! `completions`: what makes a shell complete the command line.

use std::io::Write;

use clap::ValueEnum;
use clap_complete::env::Shells;

use crate::end::{End, Failure};

/// Prints the shell completion script: commands, options, and the actors, paths and acts of the scene.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bash:        echo 'source <(mivask completions bash)' >> ~/.bashrc\n  zsh:         echo 'source <(mivask completions zsh)' >> ~/.zshrc\n  fish:        mivask completions fish > ~/.config/fish/completions/mivask.fish\n  elvish:      mivask completions elvish >> ~/.config/elvish/rc.elv\n  powershell:  mivask completions powershell >> $PROFILE"
)]
pub(crate) struct Args {
    /// Which shell.
    shell: Shell,
}

/// A shell.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum Shell {
    /// GNU Bash.
    Bash,
    /// Zsh.
    Zsh,
    /// Fish.
    Fish,
    /// Elvish.
    Elvish,
    /// `PowerShell`.
    Powershell,
}

/// The variable by which a shell asks the program itself.
pub(crate) const VARIABLE: &str = "MIVASK_COMPLETE";

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<End, Failure> {
    let name = match args.shell {
        Shell::Bash => "bash",
        Shell::Zsh => "zsh",
        Shell::Fish => "fish",
        Shell::Elvish => "elvish",
        Shell::Powershell => "powershell",
    };
    let shells = Shells::builtins();
    let shell = shells.completer(name).expect("every shell of the list is known");
    shell.write_registration(VARIABLE, "mivask", "mivask", "mivask", out)?;
    Ok(End::Answered)
}
