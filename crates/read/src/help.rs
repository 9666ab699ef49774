//! What to do about mistakes in acts, changes and expectations.

use mivask_core::act::{ActErrorKind, Verb};
use mivask_core::mode::Mode;

use crate::nearest::nearest;

/// The verb for what a command of POSIX does.
fn of_command(word: &str) -> Option<&'static Verb> {
    let verb = match word {
        "chmod" => "sets-mode",
        "chown" => "sets-owner",
        "chgrp" => "sets-group",
        "cat" | "head" | "tail" | "less" | "more" | "grep" => "reads",
        "echo" | "tee" => "writes",
        "ls" => "lists",
        "cd" => "enters",
        "rm" | "unlink" => "deletes",
        "rmdir" => "removes-directory",
        "mkdir" => "makes-directory",
        "mkfifo" => "makes-fifo",
        "mknod" => "makes-node",
        "touch" => "creates",
        "mv" => "renames",
        "ln" => "links",
        "stat" => "inspects",
        "exec" | "sh" => "runs",
        "setfacl" => "sets-acl",
        _ => return None,
    };
    Verb::ALL.iter().find(|known| known.word() == verb)
}

/// What to do about a mistake in an act, a change or an expectation.
#[must_use]
pub fn help(kind: &ActErrorKind) -> String {
    let form =
        "an act is `ACTOR VERB PATH [DETAIL] [-> EXPECTATION]`, such as `gauge writes /data/level.csv`";
    let words = Verb::ALL.iter().map(Verb::word);
    match kind {
        ActErrorKind::Short { form: Some(form), .. } | ActErrorKind::Detail { form: Some(form), .. } => {
            // A change of the scene expects nothing.
            let act = Verb::ALL.iter().any(|verb| verb.form() == *form);
            format!("write `{form}{}`", if act { " [-> EXPECTATION]" } else { "" })
        }
        ActErrorKind::Short { form: None, .. } | ActErrorKind::Detail { form: None, .. } => form.to_owned(),
        ActErrorKind::Nothing(_) => "name at least one, with commas between several".to_owned(),
        ActErrorKind::Verb(word) => match (of_command(word), nearest(word, words.clone())) {
            (Some(verb), _) => format!("write `{}`", verb.form()),
            (None, Some(verb)) => format!("did you mean `{verb}`?"),
            (None, None) => format!("the verbs are {}", words.collect::<Vec<_>>().join(", ")),
        },
        ActErrorKind::Change(text) => {
            let forms = "write octal digits such as 0640, or clauses such as g+w,o-rwx";
            Mode::slip(text).unwrap_or_else(|| forms.to_owned())
        }
        ActErrorKind::Namespace(_) => {
            "write it as after `--userns`, such as keep-id:uid=7101,gid=7200".to_owned()
        }
        ActErrorKind::Type(_) => "write the type alone, such as container_file_t".to_owned(),
        ActErrorKind::Level(_) => "write a sensitivity with its categories, such as s0:c12,c40".to_owned(),
        ActErrorKind::Id(_) => {
            "write the number as the container sees it, or a name that its account files have".to_owned()
        }
        ActErrorKind::User(_) => {
            "write `ACTOR as USER` or `ACTOR as USER:GROUP`, each a name or a number, then what they do"
                .to_owned()
        }
        ActErrorKind::Owner(_) => {
            "write UID, UID:GID or :GID as the container sees them, or names that its account files have"
                .to_owned()
        }
        ActErrorKind::Acl(_) => "write entries such as user:7102:rw-,group::r--,mask::rw-".to_owned(),
        ActErrorKind::Attribute(_) => {
            "write 1 to 255 bytes, such as user.note (`sets-acl` sets ACLs)".to_owned()
        }
        ActErrorKind::Node(_) => "write `as char 1:3`, `as block 7:0` or `as socket`".to_owned(),
        ActErrorKind::Relative(_) => {
            "write the path from the container's root, such as /data/level.csv".to_owned()
        }
        ActErrorKind::LeftOut(word) => {
            let word = word.escape_debug();
            format!(
                "leave actors out in front of the verb: `* except {word} never reads PATHS`, `only {word} reads PATHS`"
            )
        }
        ActErrorKind::Mode(_) => "write four digits from 0 to 7, such as 0640".to_owned(),
        ActErrorKind::Expectation(_) => {
            "write allowed, denied, denied EACCES, or leaves 1000:3000 0640".to_owned()
        }
        ActErrorKind::Quote => "close it, or write \\\" for a quote within the path".to_owned(),
        ActErrorKind::Escape => "write \\\\ for a backslash".to_owned(),
        ActErrorKind::Nul => "remove the \\x00".to_owned(),
    }
}
