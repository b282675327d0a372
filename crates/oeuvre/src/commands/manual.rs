//! `oeuvre manual`: the man pages, one for the program and one a command.

use crate::args::{ManualArgs, command};
use crate::deliver::deliver;
use crate::failure::Failure;
use clap_mangen::Man;

pub(crate) fn run(args: &ManualArgs) -> Result<(), Failure> {
    let folder = &args.dir;
    std::fs::create_dir_all(folder)
        .map_err(|e| Failure::writing(&folder.display().to_string(), &e))?;
    let mut program = command();
    program.build();
    let mut pages = vec![("oeuvre".to_owned(), program.clone())];
    for command in program.get_subcommands().filter(|c| c.get_name() != "help") {
        let name = format!("oeuvre-{}", command.get_name());
        let title: &'static str = Box::leak(name.clone().into_boxed_str());
        pages.push((name, command.clone().name(title)));
    }
    for (name, command) in pages {
        let page = Man::new(command);
        deliver(Some(&folder.join(format!("{name}.1"))), |out| page.render(out))?;
    }
    Ok(())
}
