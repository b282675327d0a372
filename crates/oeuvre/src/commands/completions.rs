//! `oeuvre completions`: what a shell needs to complete command lines.

use crate::complete::VARIABLE;
use crate::deliver::deliver;
use crate::failure::Failure;
use clap_complete::Shell;
use clap_complete::env::Shells;

pub(crate) fn run(shell: Shell) -> Result<(), Failure> {
    let name = shell.to_string();
    let shells = Shells::builtins();
    deliver(None, |out| match shells.completer(&name) {
        Some(completer) => {
            let program = "oeuvre";
            completer.write_registration(VARIABLE, program, program, program, out)
        }
        None => Ok(()),
    })
}
