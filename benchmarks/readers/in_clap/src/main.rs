// Answers for clap: in_clap < requests > answers. A request is lines: O name type choices spellings, P name count type,
// V word…, a blank line at its end; fields are apart by tabs, words by U+001F. An answer is a line for each V: status,
// stream, name=value… .
use clap::{value_parser, Arg, ArgAction, Command};
use std::io::{self, BufRead, Write};

fn split(text: &str) -> Vec<String> {
    if text.is_empty() { Vec::new() } else { text.split('\u{1f}').map(String::from).collect() }
}

fn main() {
    let stdin = io::stdin();
    let mut out = io::stdout();
    let (mut options, mut operands, mut vectors) = (Vec::new(), Vec::new(), Vec::new());
    for line in stdin.lock().lines() {
        let line = line.unwrap();
        let fields: Vec<&str> = line.split('\t').collect();
        match fields[0] {
            "O" => options.push((fields[1].to_string(), fields[2].to_string(), split(fields[3]), split(fields[4]))),
            "P" => operands.push((fields[1].to_string(), fields[2].to_string(), fields[3].to_string())),
            "V" => vectors.push(fields[1..].iter().map(|each| each.to_string()).collect::<Vec<_>>()),
            _ => {
                for words in &vectors {
                    writeln!(out, "{}", answer(&options, &operands, words)).unwrap();
                }
                options.clear();
                operands.clear();
                vectors.clear();
            }
        }
    }
}

type Opt = (String, String, Vec<String>, Vec<String>);
type Operand = (String, String, String);

fn answer(options: &[Opt], operands: &[Operand], words: &[String]) -> String {
    let mut command = Command::new("p");
    for (name, kind, of, spellings) in options {
        let mut arg = Arg::new(name.clone());
        for spelling in spellings {
            arg = match spelling.strip_prefix("--") {
                Some(long) => arg.long(long.to_string()),
                None => arg.short(spelling.chars().nth(1).unwrap()),
            };
        }
        arg = match kind.as_str() {
            "" => arg.action(ArgAction::SetTrue),
            "int" => arg.value_parser(value_parser!(i64)),
            "float" => arg.value_parser(value_parser!(f64)),
            "choice" => arg.value_parser(clap::builder::PossibleValuesParser::new(of.clone())),
            _ => arg,
        };
        command = command.arg(arg);
    }
    for (name, count, kind) in operands {
        let mut arg = Arg::new(name.clone()).required(count == "one" || count == "many");
        if count == "many" || count == "any" {
            arg = arg.num_args(1..).action(ArgAction::Append);
        }
        if kind == "int" {
            arg = arg.value_parser(value_parser!(i64));
        }
        command = command.arg(arg);
    }
    let mut argv = vec!["p".to_string()];
    argv.extend(words.iter().cloned());
    match command.try_get_matches_from(argv) {
        Err(error) => {
            let stream = if error.use_stderr() { "stderr" } else { "stdout" };
            format!("{}\t{}", if error.use_stderr() { 2 } else { 0 }, stream) // what error.exit() ends with
        }
        Ok(found) => {
            let mut line = "0\t".to_string();
            for (name, kind, _, _) in options {
                let text = match kind.as_str() {
                    "" => if found.get_flag(name) { Some("true".to_string()) } else { None },
                    "int" => found.get_one::<i64>(name).map(|each| each.to_string()),
                    "float" => found.get_one::<f64>(name).map(|each| each.to_string()),
                    _ => found.get_one::<String>(name).cloned(),
                };
                if let Some(text) = text {
                    line += &format!("\t{name}\u{1f}{text}");
                }
            }
            for (name, _, kind) in operands {
                let texts: Vec<String> = if kind == "int" {
                    found.get_many::<i64>(name).map(|each| each.map(i64::to_string).collect()).unwrap_or_default()
                } else {
                    found.get_many::<String>(name).map(|each| each.cloned().collect()).unwrap_or_default()
                };
                if !texts.is_empty() {
                    line += &format!("\t{name}\u{1f}{}", texts.join("\u{1f}"));
                }
            }
            line
        }
    }
}
