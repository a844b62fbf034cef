//! `larder completions`: what a shell needs in order to complete a call, and the answer when it asks.

use std::ffi::OsString;
use std::io::Write as _;

use clap::CommandFactory as _;
use clap_complete::env::Shells;

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};

mod names;

/// The variable with which a shell asks for completions; it holds the shell's name.
const ASKED: &str = "LARDER_COMPLETE";

/// What bash is told: our own, for it breaks words where a tag begins.
const BASH: &str = include_str!("../../assets/completions.bash");

/// The shells that can be told how to complete.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum ShellName {
    Bash,
    Zsh,
    Fish,
    Elvish,
    Powershell,
}

impl ShellName {
    fn word(self) -> &'static str {
        match self {
            Self::Bash => "bash",
            Self::Zsh => "zsh",
            Self::Fish => "fish",
            Self::Elvish => "elvish",
            Self::Powershell => "powershell",
        }
    }
}

/// Write what a shell needs to complete commands, options and the names in the configuration
///
/// `eval "$(larder completions bash)"` in `~/.bashrc` takes it up, and so does a file in the shell's folder of
/// completions: the packages have it there. Shelves, images, clusters, namespaces, accounts, upstreams and keys are
/// completed from the configuration and the store that the call would use. Shells: bash, zsh, fish, elvish, powershell.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// bash, zsh, fish, elvish, powershell
    #[arg(value_enum, value_name = "SHELL", hide_possible_values = true)]
    shell: ShellName,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    if args.shell == ShellName::Bash {
        context.output.raw(BASH.as_bytes());
        return Ok(Exit::Done);
    }
    let what = || format!("cannot write completions for {}", args.shell.word());
    let shells = Shells::builtins();
    let Some(shell) = shells.completer(args.shell.word()) else {
        return Err(Failure::usage(what(), "this shell is not known", "use bash, zsh or fish"));
    };
    let mut script = Vec::new();
    let written = shell.write_registration(ASKED, "larder", "larder", "larder", &mut script);
    written.map_err(|error| Failure::io(what(), &error))?;
    context.output.raw(&script);
    Ok(Exit::Done)
}

/// Answers a shell that asks what could stand at a place of a call. False: nobody asks, it is a call like any other.
///
/// What cannot be answered gives no candidates and no message: whoever presses a key has asked nothing in words.
pub fn answered() -> bool {
    let Some(asked) = std::env::var_os(ASKED).filter(|word| !word.is_empty() && *word != "0")
    else {
        return false;
    };
    let shells = Shells::builtins();
    let shell = asked.to_str().and_then(|word| shells.completer(word));
    let words: Vec<OsString> =
        std::env::args_os().skip_while(|word| word != "--").skip(1).collect();
    let (Some(shell), false) = (shell, words.is_empty()) else { return true };
    let mut all = names::completed(crate::Cli::command());
    all.build();
    let here = std::env::current_dir().ok();
    let mut answer = Vec::new();
    if shell.write_complete(&mut all, words, here.as_deref(), &mut answer).is_ok() {
        let mut to = std::io::stdout().lock();
        let _ = to.write_all(&answer).and_then(|()| to.flush());
    }
    true
}
