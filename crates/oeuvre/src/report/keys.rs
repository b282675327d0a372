//! Keys that are spelt as options are: the same table of options reads them, so that every option of a command is
//! a key, takes the same values, and means the same.
//!
//! A section becomes the words of a command line, which the options' own definitions read. Each word keeps its place
//! in the file, and what is wrong with it is told there, in the words of the file.

use super::file::{File, Mistakes, Section, Written};
use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{ArgAction, Args, Command, FromArgMatches};
use oeuvre_columns::names::either;
use oeuvre_core::{Cause, Diagnostic, Error, Givens, SourceText};
use std::error::Error as _;
use std::ops::Range;
use std::sync::Arc;
use toml::de::DeValue;

/// The options that a section gives, with the places of their values.
pub(super) struct Keys<A> {
    pub(super) args: A,
    pub(super) places: Places,
}

/// Where the values of options stand in a file.
#[derive(Clone)]
pub(super) struct Places {
    file: Arc<File>,
    header: Range<usize>,
    of: Vec<(String, Written)>,
}

/// The options of a struct, as a command without a name.
fn command<A: Args>() -> Command {
    A::augment_args(Command::new("report").no_binary_name(true).disable_help_flag(true))
}

/// Reads the keys of a section, but for those of its own; `None` where one of them is wrong.
pub(super) fn read<A: Args + FromArgMatches>(
    section: Section<'_>,
    own: &[&str],
    mistakes: &mut Mistakes,
) -> Option<Keys<A>> {
    let command = command::<A>();
    let options: Vec<&clap::Arg> =
        command.get_arguments().filter(|a| a.get_long().is_some()).collect();
    let mut known: Vec<&str> =
        options.iter().filter(|a| !a.is_hide_set()).filter_map(|a| a.get_long()).collect();
    known.extend(own);
    let before = mistakes.0.len();
    let mut words: Vec<String> = Vec::new();
    let mut of = Vec::new();
    for (key, span, value) in section.entries().filter(|(key, ..)| !own.contains(key)) {
        let Some(option) = options.iter().find(|a| a.get_long() == Some(key)) else {
            mistakes.add(section.unknown(key, span, &known));
            continue;
        };
        let flag = matches!(option.get_action(), ArgAction::SetTrue);
        let repeats = matches!(option.get_action(), ArgAction::Append);
        let alone = flag || option.get_num_args().is_some_and(|n| n.min_values() == 0);
        match value.get_ref() {
            DeValue::Boolean(false) if alone => {}
            DeValue::Boolean(true) if alone => {
                words.push(format!("--{key}"));
                of.extend(section.file.written(value).map(|w| (format!("--{key}"), w)));
            }
            _ if flag => mistakes.add(section.is_not(key, value, "true or false")),
            DeValue::Table(_) => mistakes.add(section.is_not(key, value, "a text")),
            DeValue::Array(_) if is_list_of_keys(option) => {
                let all: Vec<Written> =
                    section.values(key).filter_map(|value| section.file.written(value)).collect();
                let Some(written) = Written::joined(&all) else { continue };
                words.push(format!("--{key}={}", written.value));
                of.push((format!("--{key}"), written));
            }
            DeValue::Array(_) if !repeats => mistakes.add(section.is_not(key, value, "one value")),
            _ => {
                for value in section.values(key) {
                    let Some(written) = section.file.written(value) else {
                        mistakes.add(section.is_not(key, value, "a text"));
                        continue;
                    };
                    let word = format!("--{key}={}", written.value);
                    if let Some(wrong) = wrong::<A>(&word, key, &written.value) {
                        mistakes.add(section.file.mistake(written.span.clone(), wrong));
                        continue;
                    }
                    words.push(word);
                    of.push((format!("--{key}"), written));
                }
            }
        }
    }
    if mistakes.0.len() > before {
        return None;
    }
    let places = Places { file: section.file.clone(), header: section.header(), of };
    let matches = command.try_get_matches_from(&words);
    match matches.and_then(|m| A::from_arg_matches(&m)) {
        Ok(args) => Some(Keys { args, places }),
        Err(error) => {
            let lacks = error.get(ContextKind::InvalidArg).map(ToString::to_string);
            let message = match lacks {
                Some(option) => {
                    let name = option.split_whitespace().next().unwrap_or_default();
                    format!("`{}` is needed here, too", name.trim_start_matches('-'))
                }
                None => "these keys do not go together".to_owned(),
            };
            mistakes.add(section.file.mistake(section.header(), message));
            None
        }
    }
}

/// Whether the one value of an option is a list of keys, which may be written as a list.
fn is_list_of_keys(option: &clap::Arg) -> bool {
    matches!(option.get_action(), ArgAction::Set)
        && option.get_value_names().is_some_and(|names| names.iter().any(|n| n.as_str() == "KEYS"))
}

/// What is wrong with the value of an option by itself.
fn wrong<A: Args>(word: &str, key: &str, value: &str) -> Option<String> {
    let error = command::<A>().try_get_matches_from([word]).err()?;
    // What an option needs beside it is seen when all are read.
    if error.kind() == ErrorKind::MissingRequiredArgument {
        return None;
    }
    if let Some(ContextValue::Strings(valid)) = error.get(ContextKind::ValidValue)
        && !valid.is_empty()
    {
        return Some(format!("`{key}` is {}, not `{value}`", either(valid)));
    }
    // The only values that are checked so are numbers.
    let why = match (value.parse::<u64>(), error.source()) {
        (Ok(_), Some(why)) => format!(": {why}"),
        _ => ", which is no whole number above zero".to_owned(),
    };
    Some(format!("`{key}` does not take `{value}`{why}"))
}

impl Places {
    /// A section without options.
    pub(super) fn of_section(section: Section<'_>) -> Places {
        Places { file: section.file.clone(), header: section.header(), of: Vec::new() }
    }

    /// A text of a request with its place in the file, and what is given.
    pub(super) fn attach(&self, text: &Arc<SourceText>, given: &Arc<Givens>) -> Arc<SourceText> {
        if text.within.is_some() {
            return text.clone();
        }
        let is_it = |(option, written): &&(String, Written)| {
            *option == text.origin.split(' ').next().unwrap_or_default()
                && written.value.contains(&text.text)
        };
        // The whole value before one that it is a part of.
        let same = self.of.iter().filter(is_it).find(|(_, w)| w.value == text.text);
        let Some((_, written)) = same.or_else(|| self.of.iter().find(is_it)) else {
            let mut text = SourceText::clone(text);
            text.given = Some(given.clone());
            return Arc::new(text);
        };
        let at = written.value.rfind(&text.text).unwrap_or(0);
        written.part(at..at + text.text.len()).source(&text.origin, given)
    }

    /// Whether any option of a struct is given.
    pub(super) fn has_any<A: Args>(&self) -> bool {
        let command = command::<A>();
        let mut longs = command.get_arguments().filter_map(|a| a.get_long());
        longs.any(|long| self.of.iter().any(|(option, _)| option[2..] == *long))
    }

    /// A mistake at the beginning of the section.
    pub(super) fn mistake(&self, message: impl Into<String>) -> Diagnostic {
        self.file.mistake(self.header.clone(), message)
    }

    /// What is wrong, told at its place in the file: where the option stands that it speaks of, else at the head of
    /// the section.
    pub(super) fn place(&self, error: Error) -> Error {
        let (message, help, of_kinds) = match error {
            Error::Request { message, help, of_kinds } => (message, help, of_kinds),
            Error::Data(problem) if problem.file.is_none() => {
                (problem.message.clone(), problem.help.clone(), false)
            }
            other => return other,
        };
        let option = message.split([' ', ':']).next().filter(|word| word.starts_with("--"));
        let of_option = |(name, _): &&(String, Written)| Some(name.as_str()) == option;
        // Of several values of one option the one that the message quotes.
        let quoted = self.of.iter().filter(of_option).find(|(_, w)| message.contains(&w.value));
        let found = quoted.or_else(|| self.of.iter().find(of_option));
        let span = found.map_or(self.header.clone(), |(_, written)| written.span.clone());
        let mut mistake = self.file.mistake(span, as_keys(&message));
        for help in &help {
            mistake = mistake.help(as_keys(help));
        }
        if of_kinds {
            mistake = mistake.because(Cause::Kinds);
        }
        Error::Diagnostics(vec![mistake])
    }
}

/// What is wrong, told at a text of the file, unless it is a problem in another file.
pub(super) fn at(written: &Written, error: Error) -> Error {
    match error {
        Error::Request { message, help, .. } => told_at(written, &message, &help),
        Error::Data(problem) if problem.file.is_none() => {
            told_at(written, &problem.message, &problem.help)
        }
        other => other,
    }
}

fn told_at(written: &Written, message: &str, help: &[String]) -> Error {
    let mut it = written.mistake(as_keys(message));
    for help in help {
        it = it.help(as_keys(help));
    }
    Error::Diagnostics(vec![it])
}

/// Words for a command line as they are written in a report file: `--dates 'dd.MM.yy'` as `dates = "dd.MM.yy"`.
pub(super) fn as_keys(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find("--") {
        let (before, behind) = rest.split_at(at);
        out.push_str(before);
        let name = &behind[2..];
        let len = name.find(|c: char| !c.is_ascii_lowercase() && c != '-').unwrap_or(name.len());
        let begins_word =
            before.chars().next_back().is_none_or(|c| !c.is_alphanumeric() && c != '-');
        if len == 0 || !begins_word {
            out.push_str("--");
            rest = name;
            continue;
        }
        let key = &name[..len];
        rest = &name[len..];
        let quoted = rest.strip_prefix(" '").and_then(|r| r.split_once('\''));
        let typed = rest.strip_prefix(['=', ' ']).and_then(|r| {
            let word = r.split(' ').next()?;
            let literal = word.trim_end_matches([',', '.', ';']);
            let is_value = rest.starts_with('=')
                || word.chars().any(|c| c.is_uppercase() || c.is_ascii_digit() || c == '_')
                || matches!(
                    literal,
                    "blank" | "leave-out" | "stop" | "dmy" | "mdy" | "ymd" | "first"
                );
            (is_value && !literal.is_empty()).then(|| (literal, &r[literal.len()..]))
        });
        match quoted.or(typed) {
            Some((value, behind)) => {
                let quote = if value.contains('"') { '\'' } else { '"' };
                out.push_str(&format!("{key} = {quote}{value}{quote}"));
                rest = behind;
            }
            None => out.push_str(key),
        }
    }
    out.push_str(rest);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("--format 'a: b': what", "format = \"a: b\": what")]
    #[case("say which with --dates dmy (day first)", "say which with dates = \"dmy\" (day first)")]
    #[case("each lookup needs one --match", "each lookup needs one match")]
    #[case("write --totals=sub", "write totals = \"sub\"")]
    #[case("a -- b", "a -- b")]
    fn options_read_as_the_keys_that_they_are(#[case] typed: &str, #[case] written: &str) {
        assert_eq!(as_keys(typed), written);
    }
}
