//! Options that several commands share.

use std::io::Write;
use std::path::PathBuf;

use clap::ValueEnum;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use mivask_core::rehearse::Rehearsal;
use mivask_core::runtime::{Builder, Runtime};
use mivask_core::script;
use mivask_disk::place::{BadPlace, Place};

/// When to colour.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// Whether long text goes through a pager.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub(crate) enum Paging {
    /// If the output is a terminal and the answer is longer than the screen.
    Auto,
    /// Never.
    Never,
}

/// Whether AppArmor is on the host.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub(crate) enum ApparmorWord {
    /// As on this machine.
    Live,
    /// It is.
    Enabled,
    /// It is not.
    Disabled,
}

/// What to ask about.
#[derive(Clone, Debug, clap::Args)]
pub(crate) struct Input {
    /// Kubernetes objects, a Compose file, an OCI configuration, a folder of these, a scene file, a build file, command lines such as
    /// `docker run ...`, a unit file of Podman's, or what an engine prints of a container; `-` is standard input, `container:NAME` is
    /// asked for at the engine's socket.
    /// Or files that nothing describes: a folder, a survey, an archive or a listing.
    pub input: PathBuf,
    #[command(flatten)]
    pub facts: Facts,
}

/// The heading of those options.
const FACTS: &str = "What is known, and what differs";

/// What is added to what the input tells, and how it is looked at.
#[derive(Clone, Debug, Default, clap::Args)]
pub(crate) struct Facts {
    /// A further Compose file, merged on top of INPUT as the specification says. May be repeated.
    #[arg(help_heading = FACTS, long, value_name = "FILE")]
    pub merge: Vec<PathBuf>,
    /// Whose rules apply. Name several, such as `docker,podman`, to see only what differs between them.
    #[arg(help_heading = FACTS, long, value_name = "NAME", value_delimiter = ',', value_parser = runtime_name())]
    pub runtime: Vec<Runtime>,
    /// What builds the images that are built: buildkit with docker unless said otherwise, buildah with podman.
    #[arg(help_heading = FACTS, long, value_name = "NAME", value_parser = builder_name())]
    pub builder: Option<Builder>,
    /// What is on a volume, named by its PVC or volume name; `host` for the whole host, `host:/PATH` for a part of
    /// it. SOURCE is a directory, a survey, an archive or a listing. May be repeated.
    #[arg(help_heading = FACTS, long, value_name = "NAME=SOURCE", value_parser = named_source)]
    pub disk: Vec<NamedSource>,
    /// A dataset of surveys (`survey --to dataset`): what is on each volume that the description mounts. A claim is its volume
    /// NAMESPACE.CLAIM, or CLAIM; named volumes and those of scenes have their own names. --disk says otherwise of single ones.
    #[arg(help_heading = FACTS, long, value_name = "DIRECTORY")]
    pub dataset: Option<PathBuf>,
    /// The day of the dataset, YYYY-MM-DD; by default the last one of each volume.
    #[arg(help_heading = FACTS, long, value_name = "DATE", requires = "dataset")]
    pub date: Option<String>,
    /// Only this volume of the dataset, by its name there. May be repeated.
    #[arg(help_heading = FACTS, long, value_name = "NAME", requires = "dataset")]
    pub only_volume: Vec<String>,
    /// Where an image's files are: an OCI layout, an archive of one, an archive that an engine saved, or a root
    /// file system. May be repeated.
    #[arg(help_heading = FACTS, long, value_name = "NAME=SOURCE", value_parser = named_source)]
    pub image: Vec<NamedSource>,
    /// Where images are looked for that nothing is told of, in the order given: `registry` is the one in the image's name,
    /// `registry:HOST[:PORT][/PREFIX]` one that has the images of others (with http:// before HOST where it has no TLS),
    /// `docker` and `podman` are asked through their sockets, PATH is a folder of archives and layouts, and `none` is
    /// nowhere, whatever a scene says. May be repeated; nothing is looked for otherwise.
    #[arg(help_heading = FACTS, long, value_name = "PLACE", value_parser = place)]
    pub images_from: Vec<String>,
    /// Whose engine it is, where that is not root's: a login name or user id of the host. Its ids are 0 inside for this user, and
    /// the user's subordinate ids (subuid(5)) from 1.
    #[arg(help_heading = FACTS, long, value_name = "USER", value_parser = clap::builder::NonEmptyStringValueParser::new())]
    pub rootless: Option<String>,
    /// Whose subordinate ids a daemon of root's gives its containers, as Docker's `userns-remap` says it: `default`, a login name or a
    /// user id of the host.
    #[arg(help_heading = FACTS, long, value_name = "USER", conflicts_with = "rootless", value_parser = clap::builder::NonEmptyStringValueParser::new())]
    pub remapped_to: Option<String>,
    /// The host's account files: `live` for those of this machine, or a folder with copies of passwd, group, subuid and subgid.
    #[arg(help_heading = FACTS, long, value_name = "PLACE", value_parser = clap::builder::NonEmptyStringValueParser::new())]
    pub host_accounts: Option<String>,
    /// What SELinux does on the host: `live` for what it does on this machine, the path of a policy that it enforces, or `disabled`,
    /// `permissive` or `enforcing`.
    #[arg(help_heading = FACTS, long, value_name = "POLICY", value_parser = clap::builder::NonEmptyStringValueParser::new())]
    pub selinux: Option<String>,
    /// Whether the host has AppArmor, so that engines give containers their profile; `live` is as on this machine.
    #[arg(help_heading = FACTS, long, value_name = "WORD")]
    pub apparmor: Option<ApparmorWord>,
    /// What would be different, as a sentence: 'gauge becomes 7102:7200', 'pod filesystem-group 7400', 'gauge umask
    /// 0002', 'gauge drops ALL', 'gauge mounts /data with ro', 'gauge sets-mode g+w on /data/**', 'host joins gauge
    /// to tides'. Files are changed by an administrator where the actor sees them; files of `host` before they are
    /// mounted. May be repeated.
    #[arg(help_heading = FACTS, long, value_name = "CHANGE", allow_hyphen_values = true)]
    pub change: Vec<String>,
    /// Treat warnings as errors.
    #[arg(help_heading = FACTS, long)]
    pub strict: bool,
}

/// What `--images-from` takes for nowhere.
pub(crate) const NOWHERE: &str = "none";

fn place(text: &str) -> Result<String, BadPlace> {
    if text != NOWHERE {
        Place::parse(text)?;
    }
    Ok(text.to_owned())
}

/// `NAME=SOURCE`
#[derive(Clone, Debug)]
pub(crate) struct NamedSource {
    pub name: String,
    pub source: PathBuf,
}

fn named_source(text: &str) -> Result<NamedSource, String> {
    match text.split_once('=') {
        Some((name, source)) if !name.is_empty() && !source.is_empty() => {
            Ok(NamedSource { name: name.to_owned(), source: source.into() })
        }
        _ => Err("write NAME=SOURCE, such as readings=readings.survey".to_owned()),
    }
}

/// The names of runtimes as a parser of arguments.
pub(crate) fn runtime_name() -> impl TypedValueParser<Value = Runtime> {
    PossibleValuesParser::new(Runtime::NAMED.map(Runtime::word))
        .map(|word| Runtime::by_word(&word).unwrap_or(Runtime::Bare))
}

fn builder_name() -> impl TypedValueParser<Value = Builder> {
    PossibleValuesParser::new(Builder::ALL.map(Builder::word))
        .map(|word| Builder::by_word(&word).unwrap_or(Builder::BuildKit))
}

/// Who acts.
#[derive(Clone, Debug, Default, clap::Args)]
pub(crate) struct Acting {
    /// Who acts where an act begins with its verb. Of a folder or a listing as INPUT: whom to ask about, an account or
    /// UID[:GID]; yourself where left out.
    #[arg(long, value_name = "NAME", allow_hyphen_values = true)]
    pub actor: Vec<String>,
}

/// What nearly every question takes.
#[derive(Debug, clap::Args)]
pub(crate) struct Common {
    #[command(flatten)]
    pub input: Input,
    /// Only this actor: a container, or WORKLOAD/CONTAINER. Of a folder or a listing as INPUT: whom to ask about, an
    /// account or UID[:GID]. May be repeated.
    #[arg(long, value_name = "NAME", allow_hyphen_values = true)]
    pub actor: Vec<String>,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// The commands of a change, and the way back.
#[derive(Clone, Copy, Debug, Default, clap::Args)]
pub(crate) struct Commands {
    /// Print what an administrator types to make the change, as a shell script that may run twice.
    #[arg(long, conflicts_with = "format")]
    pub commands: bool,
    /// Print what takes it back instead, from the state before.
    #[arg(long, conflicts_with_all = ["format", "commands"])]
    pub undo: bool,
}

impl Commands {
    /// Prints what is asked for; `false` where neither is.
    pub(crate) fn print(self, rehearsal: &Rehearsal, out: &mut dyn Write) -> std::io::Result<bool> {
        if self.commands {
            mivask_show::script::script(out, &script::commands(rehearsal))?;
        } else if self.undo {
            mivask_show::script::script(out, &script::way_back(rehearsal))?;
        }
        Ok(self.commands || self.undo)
    }
}

/// How to print an answer.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Text,
    /// One JSON document.
    Json,
}
