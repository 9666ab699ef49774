//! The acts of a scene.

use std::io::Write;

use mivask_core::act::Act;
use mivask_core::question::{Answer, Comparison, Held};
use mivask_core::stage::Stage;
use mivask_core::storage::Settings;
use mivask_kernel::{Bench, Choice, UnknownFilesystem, unavailable};
use mivask_trial::hold::{hold, hold_unprivileged, predict};

use super::Args;
use super::error::ConfirmError;
use crate::acts::gather;
use crate::end::{End, Failure};
use crate::load;
use crate::options::{Format, Input};
use crate::reach::Asked;

pub(super) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let choice = choice(&args.filesystem)?;
    if args.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("confirm"));
    }
    let input = Input { input: args.input.clone().unwrap_or_default(), facts: args.facts.clone() };
    let whole = load::Whole::read(&input, &Asked::of(&args.acts), err)?;
    let acts = gather(&input, &args.acts, &args.file, (&whole.stage, &whole.names()), err)?;
    whole.remark(&acts, err)?;
    let mut stage = whole.stage;
    settle(&mut stage, err)?;
    let answers = predict(&stage, &acts)?;
    let held = if unavailable().is_none() {
        let bench = Bench::new(choice).map_err(ConfirmError::from)?;
        hold(&stage, answers, &bench).map_err(ConfirmError::from)?
    } else {
        without_root(stage, &acts, answers, choice, err)?
    };
    let ground = match choice {
        Choice::AsTold => "what the scene tells".to_owned(),
        Choice::On(filesystem) => filesystem.to_string(),
    };
    match args.format {
        Format::Text => mivask_show::text::confirmed(out, &held, &ground, load::layout())?,
        Format::Json => mivask_show::json::confirmed(out, &held)?,
    }
    Ok(end(&held))
}

/// The same for a plain user: in a user namespace, with maps in which those of the scene fit.
fn without_root(
    mut stage: Stage,
    acts: &[Act],
    answers: Vec<Answer>,
    choice: Choice,
    err: &mut dyn Write,
) -> Result<Vec<Held>, Failure> {
    let (fitted, mut lacks) = match mivask_kernel::fitted(&stage, acts) {
        Ok(fitted) => (fitted, None),
        Err(reason) => (None, Some(reason)),
    };
    let entered = mivask_kernel::enter_user_namespace(fitted.as_ref()).map_err(ConfirmError::from)?;
    match &fitted {
        Some(fitted) if entered => fitted.trim(&mut stage),
        Some(_) => lacks = Some(NO_MAPS.to_owned()),
        None => {}
    }
    writeln!(
        err,
        "note: without root, it is rebuilt in a user namespace: no actor with capabilities on the host is tried"
    )?;
    let bench = Bench::new(choice).map_err(ConfirmError::from)?;
    let held = hold_unprivileged(&stage, answers, (&bench, lacks.as_deref()));
    Ok(held.map_err(ConfirmError::from)?)
}

/// Why no namespace within ours can be made.
const NO_MAPS: &str = "without root, a user namespace of its own takes newuidmap, newgidmap and subordinate ids (/etc/subuid, /etc/subgid)";

fn end(held: &[Held]) -> End {
    let differs = held.iter().any(|one| matches!(one.result, Comparison::Different(_)));
    let nothing = held.iter().all(|one| matches!(one.result, Comparison::NotChecked(_)));
    match (differs, nothing) {
        (true, _) => End::NotUpheld,
        (false, true) => End::Unchecked,
        (false, false) => End::Answered,
    }
}

fn choice(names: &[String]) -> Result<Choice, Failure> {
    let choice = match names {
        [] => return Ok(Choice::On(mivask_kernel::Filesystem::Tmpfs)),
        [name] if name == "told" => Choice::AsTold,
        [name] => {
            let unknown = |text: UnknownFilesystem| {
                ConfirmError::Filesystem(format!("{text}, and `told` for what the scene says"))
            };
            Choice::On(name.parse().map_err(unknown)?)
        }
        _ => {
            return Err(ConfirmError::Filesystem(
                "one file system at a time, except with --random".to_owned(),
            )
            .into());
        }
    };
    if let Choice::On(filesystem) = choice
        && let Some(reason) = filesystem.unavailable()
    {
        return Err(ConfirmError::Filesystem(reason).into());
    }
    Ok(choice)
}

/// This machine's kernel settings in place of the scene's, and devices for everyone: the harness has no device
/// list. Says so where that differs from what was given.
fn settle(stage: &mut Stage, err: &mut dyn Write) -> Result<(), Failure> {
    let given = stage.storage.settings;
    let here = mivask_kernel::settings();
    let pairs = |settings: &Settings| {
        [
            ("fs.protected_symlinks", settings.protected_symlinks),
            ("fs.protected_hardlinks", settings.protected_hardlinks),
            ("fs.protected_regular", settings.protected_regular),
            ("fs.protected_fifos", settings.protected_fifos),
        ]
    };
    let both = pairs(&given).into_iter().zip(pairs(&here));
    let others: Vec<String> = both
        .filter(|((_, given), (_, here))| given.is_some() && given != here)
        .filter_map(|((name, _), (_, here))| Some(format!("{name} = {}", here?)))
        .collect();
    if !others.is_empty() {
        writeln!(err, "note: this machine's kernel settings count, not the scene's: {}", others.join(", "))?;
    }
    stage.storage.settings = here;
    if stage.actors.iter().any(|actor| actor.confined.is_some()) {
        writeln!(
            err,
            "note: SELinux is left out of both sides: no policy of the scene's is loaded here, and nothing gets its labels"
        )?;
    }
    for actor in std::sync::Arc::make_mut(&mut stage.actors) {
        actor.all_devices = true;
        actor.confined = None;
    }
    Ok(())
}
