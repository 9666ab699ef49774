//! Reading changes.

use mivask_model::act::{Act, ActError, ActErrorKind, Owner, Rest, Verb, Word, absolute, parse_act, split};
use mivask_model::mode::Mode;
use mivask_stage::namespace::{self, NamespaceAsked};
use mivask_stage::prepare::HOST;

use super::label::is_level;
use super::{Accounts, Change, GroupStep, Process, Security};

/// A line of a rehearsal: an act of someone, or a change of the scene around them.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Sentence {
    /// Someone does something, or fails to.
    Act(Act),
    /// The scene is different from here on.
    Change(Change),
}

/// Words that begin a change which is not an act, and how the sentence is built.
const FORMS: [(&str, &str); 19] = [
    ("becomes", "ACTOR becomes UID[:GID]"),
    ("umask", "ACTOR umask MODE"),
    ("level", "ACTOR level LEVEL"),
    ("sets-boolean", "host sets-boolean NAME on|off"),
    ("labels", "host labels PATH as TYPE"),
    ("drops", "ACTOR drops CAPABILITY[,CAPABILITY]"),
    (
        "adds",
        "ACTOR adds CAPABILITY[,CAPABILITY], or host adds [system] group NAME [as GID], or host adds user NAME [as UID[:GROUP]]",
    ),
    ("joins", "ACTOR joins GID, or host joins USER[,USER] to GROUP[,GROUP]"),
    ("parts", "host parts USER from GROUP"),
    ("user-namespace", "ACTOR user-namespace MODE, such as host, keep-id or nomap"),
    ("filesystem-group", "pod filesystem-group GID, or none, always, on-root-mismatch"),
    ("mounts", "ACTOR mounts PATH with OPTION[,OPTION], or ACTOR mounts scratch at PATH"),
    ("sets-primary-group", "host sets-primary-group GROUP of USER"),
    ("sets-groups", "host sets-groups GROUP[,GROUP] of USER"),
    ("starts", "ACTOR starts again"),
    ("is", "ACTOR is made again"),
    ("renames", "host renames group NAME to NEW, or host renames user NAME to NEW"),
    ("renumbers", "host renumbers group NAME to GID, or host renumbers user NAME to UID"),
    ("removes", "host removes group NAME, or host removes user NAME"),
];

/// Reads an act, or a change that is not an act.
///
/// # Errors
/// The first mistake, with its place in `text`.
pub fn parse_sentence(text: &str) -> Result<Sentence, ActError> {
    let words = split(text)?;
    // An actor may be called `image`; then a verb follows.
    let verb = |word: &Word| Verb::by_word(&word.as_text()).is_some();
    if let [first, second, third, ..] = words.as_slice()
        && first.text == b"image"
        && !verb(second)
        && verb(third)
    {
        let start = second.span.start;
        let act = parse_act(&text[start..]).map_err(|error| moved(error, start))?;
        return Ok(Sentence::Change(Change::Image(act)));
    }
    // What an administrator does where an actor sees it.
    if let [first, second, ..] = words.as_slice()
        && first.text == FOR
        && !verb(second)
        && second.text != b"as"
    {
        let start = second.span.start;
        let act = parse_act(&text[start..]).map_err(|error| moved(error, start))?;
        return Ok(Sentence::Change(Change::Files(act)));
    }
    let second = words.get(1).map(Word::as_text);
    let group = words.get(2).is_some_and(|word| word.text == b"group" || word.text == b"user");
    let form = second.as_deref().and_then(|word| FORMS.iter().find(|(known, _)| *known == word));
    match form {
        // Renaming a file is an act.
        Some(("renames", _)) if !group => parse_act(text).map(Sentence::Act),
        Some((_, form)) => {
            let mut rest = Rest::of(&words, text, form);
            change(&mut rest).map(Sentence::Change)
        }
        None => parse_act(text).map(Sentence::Act),
    }
}

/// The word in front of an act that an administrator does where its actor sees the path: `for gauge sets-mode g+w on /data`.
const FOR: &[u8] = b"for";

/// The same mistake that much further to the right.
fn moved(mut error: ActError, start: usize) -> ActError {
    error.span = error.span.start + start..error.span.end + start;
    error
}

/// Reads a change: one of accounts or of a description, or an act that changes files.
///
/// # Errors
/// The first mistake, with its place in `text`.
pub fn parse_change(text: &str) -> Result<Change, ActError> {
    match parse_sentence(text)? {
        Sentence::Change(change) => Ok(change),
        Sentence::Act(act) => Ok(Change::Files(act)),
    }
}

fn user_namespace(rest: &mut Rest<'_>) -> Result<Process, ActError> {
    let word = rest.next("a user namespace")?;
    let mode = word.as_text().to_owned();
    match namespace::mode(&mode) {
        None | Some(NamespaceAsked::Bad(_)) => Err(word.error(ActErrorKind::Namespace)),
        Some(_) => Ok(Process::UserNamespace(mode)),
    }
}

fn level(rest: &mut Rest<'_>) -> Result<Process, ActError> {
    let word = rest.next("a level")?;
    let level = word.as_text();
    if is_level(&level) { Ok(Process::Level(level)) } else { Err(word.error(ActErrorKind::Level)) }
}

fn change(rest: &mut Rest<'_>) -> Result<Change, ActError> {
    let actor = rest.next("an actor")?.as_text();
    let verb = rest.next("what changes")?;
    let found = match verb.text.as_slice() {
        b"becomes" => Change::Process(actor, becomes(rest)?),
        b"umask" => {
            let word = rest.next("a mode")?;
            let mask: Mode = word.as_text().parse().map_err(|_| word.error(ActErrorKind::Mode))?;
            Change::Process(actor, Process::Umask(mask))
        }
        b"user-namespace" => Change::Process(actor, user_namespace(rest)?),
        b"level" => Change::Process(actor, level(rest)?),
        b"sets-boolean" | b"labels" if actor == HOST => {
            Change::Security(Security::read(verb.text == b"labels", rest)?)
        }
        b"drops" => Change::Process(actor, Process::Drops(list(rest, "a capability")?)),
        b"adds" => {
            let word = rest.next("a capability or `group`")?;
            if matches!(word.text.as_slice(), b"group" | b"user" | b"system") && !rest.is_empty() {
                Change::Accounts(actor, added(word, rest)?)
            } else {
                Change::Process(actor, Process::Adds(names(word, "a capability")?))
            }
        }
        b"joins" => joins(actor, rest)?,
        b"starts" => {
            rest.preposition("again")?;
            Change::Process(actor, Process::StartsAgain)
        }
        b"is" => {
            rest.preposition("made")?;
            rest.preposition("again")?;
            Change::Process(actor, Process::IsMadeAgain)
        }
        b"filesystem-group" => {
            let step = GroupStep::read(rest)?;
            if actor == "pod" {
                Change::FilesystemGroup(step)
            } else {
                Change::Process(actor, Process::FilesystemGroup(step))
            }
        }
        b"mounts" => {
            let word = rest.next("a path, `only` or `scratch`")?;
            if word.text == b"only" {
                Change::Process(actor, Process::Only(absolute(rest.next("a path")?)?))
            } else if word.text == b"scratch" {
                rest.preposition("at")?;
                Change::Process(actor, Process::Scratch(absolute(rest.next("a path")?)?))
            } else {
                let at = absolute(word)?;
                rest.preposition("with")?;
                Change::Process(actor, Process::Mounts(at, list(rest, "an option")?))
            }
        }
        _ => accounts(actor, verb, rest)?,
    };
    rest.end()?;
    Ok(found)
}

/// Changes of accounts.
fn accounts(actor: String, verb: &Word, rest: &mut Rest<'_>) -> Result<Change, ActError> {
    let what = match verb.text.as_slice() {
        b"parts" => {
            let user = rest.next("a user")?.as_text();
            rest.preposition("from")?;
            Accounts::Parts(user, rest.next("a group")?.as_text())
        }
        b"sets-primary-group" => {
            let group = rest.next("a group")?.as_text();
            rest.preposition("of")?;
            Accounts::PrimaryGroup(group, rest.next("a user")?.as_text())
        }
        b"sets-groups" => {
            let groups = rest.next("groups")?.as_text();
            rest.preposition("of")?;
            Accounts::OnlyGroups(groups, rest.next("a user")?.as_text())
        }
        b"renames" => {
            let (is_user, name) = account_name(rest)?;
            rest.preposition("to")?;
            let new = rest.next("a name")?.as_text();
            if is_user { Accounts::RenamesUser(name, new) } else { Accounts::Renames(name, new) }
        }
        b"renumbers" => {
            let (is_user, name) = account_name(rest)?;
            rest.preposition("to")?;
            let id = number(rest)?;
            if is_user { Accounts::RenumbersUser(name, id) } else { Accounts::Renumbers(name, id) }
        }
        b"removes" => match account_name(rest)? {
            (true, name) => Accounts::RemovesUser(name),
            (false, name) => Accounts::Removes(name),
        },
        _ => return Err(rest.unexpected(verb)),
    };
    Ok(Change::Accounts(actor, what))
}

fn joins(actor: String, rest: &mut Rest<'_>) -> Result<Change, ActError> {
    let word = rest.next("a group's number, or a user")?;
    if rest.is_empty() {
        let gid = mivask_model::act::id(&word.as_text()).ok_or_else(|| word.error(ActErrorKind::Id))?;
        return Ok(if actor == "pod" {
            Change::Joins(gid)
        } else {
            Change::Process(actor, Process::Joins(gid))
        });
    }
    rest.preposition("to")?;
    Ok(Change::Accounts(actor, Accounts::Joins(word.as_text(), rest.next("a group")?.as_text())))
}

fn becomes(rest: &mut Rest<'_>) -> Result<Process, ActError> {
    let word = rest.next("a user id")?;
    match Owner::parse(&word.as_text()) {
        Some(Owner { uid: Some(uid), gid }) => Ok(Process::Becomes(uid, gid)),
        Some(Owner { uid: None, .. }) | None => Err(word.error(ActErrorKind::Owner)),
    }
}

fn number(rest: &mut Rest<'_>) -> Result<u32, ActError> {
    let word = rest.next("a group's number")?;
    mivask_model::act::id(&word.as_text()).ok_or_else(|| word.error(ActErrorKind::Id))
}

/// `group NAME` or `user NAME`: whether it is a user, and its name.
fn account_name(rest: &mut Rest<'_>) -> Result<(bool, String), ActError> {
    let word = rest.next("`group` or `user`")?;
    match word.text.as_slice() {
        b"group" => Ok((false, rest.next("a group's name")?.as_text())),
        b"user" => Ok((true, rest.next("a user's name")?.as_text())),
        _ => Err(rest.unexpected(word)),
    }
}

/// What is behind `adds`: `[system] group NAME [as GID]`, `user NAME [as UID[:GROUP]]`.
fn added(word: &Word, rest: &mut Rest<'_>) -> Result<Accounts, ActError> {
    if word.text == b"user" {
        let name = rest.next("a user's name")?.as_text();
        if rest.is_empty() {
            return Ok(Accounts::AddsUser(name, None));
        }
        rest.preposition("as")?;
        let word = rest.next("a user id")?;
        let text = word.as_text();
        let (uid, group) =
            text.split_once(':').map_or((text.as_str(), None), |(uid, group)| (uid, Some(group)));
        let uid = mivask_model::act::id(uid).ok_or_else(|| word.error(ActErrorKind::Id))?;
        let group = group.filter(|group| !group.is_empty()).map(str::to_owned);
        return Ok(Accounts::AddsUser(name, Some((uid, group))));
    }
    let system = word.text == b"system";
    if system {
        rest.preposition("group")?;
    }
    let name = rest.next("a name")?.as_text();
    if rest.is_empty() {
        return Ok(Accounts::AddsNext(name, system));
    }
    rest.preposition("as")?;
    Ok(Accounts::Adds(name, number(rest)?))
}

fn list(rest: &mut Rest<'_>, what: &'static str) -> Result<Vec<String>, ActError> {
    names(rest.next(what)?, what)
}

/// What a word names between its commas; a word that names nothing is a mistake, since nothing would change.
fn names(word: &Word, what: &'static str) -> Result<Vec<String>, ActError> {
    let text = word.as_text();
    let names: Vec<String> = text.split(',').filter(|name| !name.is_empty()).map(ToOwned::to_owned).collect();
    if names.is_empty() {
        return Err(word.error(|_| ActErrorKind::Nothing(what)));
    }
    Ok(names)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_change_reads_back_as_it_prints() {
        for text in [
            "gauge becomes 7102",
            "station/gauge becomes 7102:7200",
            "gauge umask 0002",
            "gauge drops ALL",
            "gauge adds CHOWN,FOWNER",
            "gauge adds \"no such\\\"one,CHOWN\"",
            "gauge mounts /a with \"r o\"",
            "gauge joins 7300",
            "gauge level s0:c12,c40",
            "host sets-boolean container_manage_home on",
            "host labels /srv/tides as container_file_t",
            "pod joins 7300",
            "gauge filesystem-group 7400",
            "pod filesystem-group 7400",
            "gauge mounts \"/a b\" with ro,nosuid",
            "gauge mounts scratch at /tmp",
            "host joins gauge to tides",
            "gauge joins gauge to tides",
            "host parts gauge from tides",
            "host sets-primary-group tides of gauge",
            "host adds group tides as 7200",
            "host renames group tides to sea",
            "host renumbers group tides to 7201",
            "host removes group tides",
            "host adds group tides",
            "host adds system group tides",
            "host adds user ada",
            "host adds user ada as 5101",
            "host adds user ada as 5101:bees",
            "host renames user ada to eve",
            "host renumbers user ada to 5102",
            "host removes user ada",
            "host sets-groups bees,crew of ada",
            "host joins ada,bob to bees,crew",
            "gauge starts again",
            "gauge is made again",
            "host renames /srv/a to /srv/b",
            "image gauge sets-owner 7101 on /cache",
            "image reads /x",
            "gauge sets-mode g+w on /data",
            "gauge makes-directory /data/x mode 2775",
        ] {
            let change = parse_change(text).unwrap();
            let administered = matches!(&change, Change::Files(act) if act.actor != "host");
            let said = if administered { format!("for {text}") } else { text.to_owned() };
            assert_eq!(change.to_string(), said);
            assert_eq!(parse_change(&change.to_string()).unwrap(), change);
        }
    }

    #[test]
    fn mistakes_have_a_place_and_help() {
        for (text, span, message) in [
            ("gauge becomes gauge", 14..19, "`gauge` is not an owner"),
            ("gauge becomes :7200", 14..19, "`:7200` is not an owner"),
            ("gauge umask rw", 12..14, "`rw` is not an octal mode"),
            ("gauge joins tides", 12..17, "`tides` is not a numeric id"),
            (
                "gauge level 12",
                12..14,
                "`12` is not a level: it is the last part of a label, such as s0:c12,c40",
            ),
            ("host sets-boolean x maybe", 20..25, "`maybe` is not expected here"),
            ("gauge sets-boolean x on", 6..18, "`sets-boolean` is not expected here"),
            (
                "host labels /x as a:b",
                18..21,
                "`a:b` is not a type: the third part of a label is one, such as container_file_t",
            ),
            ("host labels x as y_t", 12..13, "`x` is not an absolute path"),
            ("gauge joins", 11..11, "the act ends where a group's number, or a user is expected"),
            ("host renumbers tides to 1", 15..20, "`tides` is not expected here"),
            ("gauge mounts data with ro", 13..17, "`data` is not an absolute path"),
            ("gauge adds \"\"", 11..13, "nothing is named where a capability is expected"),
            ("gauge drops ,", 12..13, "nothing is named where a capability is expected"),
            ("gauge mounts /a with ,,", 21..23, "nothing is named where an option is expected"),
            ("gauge drops ALL now", 16..19, "`now` is not expected here"),
            ("gauge sets-mode rw on /x", 16..18, "`rw` is not a mode"),
            ("for gauge sets-mode rw on /x", 20..22, "`rw` is not a mode"),
        ] {
            let error = parse_change(text).unwrap_err();
            assert_eq!((error.span.clone(), error.to_string().as_str()), (span, message));
        }
    }
}
