//! A thread in a namespace of its own that tries acts, one actor at a time.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};

use mivask_model::act::Act;
use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::Credentials;
use mivask_model::mount::MountTable;
use mivask_model::observed::Observed;
use mivask_model::outcome::{Effect, Errno, Imprint, RunsAs};
use mivask_stage::stage::{Actor, Stage};

use crate::attempt::Effort;
use crate::ground::{Choice, Grounds};
use crate::report::{Record, Seen};
use crate::shown::Shown;
use crate::world::World;
use crate::{KernelError, child, namespace};

/// A place to try acts at. Its file systems are made when first needed and stay until it is dropped.
#[derive(Debug)]
pub struct Bench {
    jobs: Sender<(Job, Sender<Answer>)>,
}

type Answer = Result<(Vec<Observed>, Vec<Shown>), KernelError>;

struct Job {
    stage: Arc<Stage>,
    mounts: MountTable,
    credentials: Credentials,
    acts: Vec<Act>,
    /// Whether what is on the file systems afterwards is given.
    aftermath: bool,
}

impl Bench {
    /// A bench that builds sources as `choice` says.
    ///
    /// # Errors
    /// The namespace or its scratch space cannot be made.
    pub fn new(choice: Choice) -> Result<Self, KernelError> {
        let (jobs, todo) = channel();
        let (ready, opened) = channel();
        std::thread::spawn(move || {
            let shop = namespace::enter().and_then(|()| namespace::scratch());
            match shop {
                Ok(scratch) => {
                    let _ = ready.send(Ok(()));
                    Shop { grounds: Grounds::new(&scratch), scratch, choice }.work(&todo);
                }
                Err(error) => drop(ready.send(Err(error))),
            }
        });
        opened.recv().map_err(|_| KernelError::Harness("its thread ended early".to_owned()))??;
        Ok(Self { jobs })
    }

    /// Does each act on the running kernel as `actor`, each against the untouched scene.
    ///
    /// Where a fact is missing the first possibility is built: an act whose end it does not change ends so too.
    ///
    /// # Errors
    /// The scene cannot be rebuilt here, or a step of rebuilding it fails.
    pub fn attempt(&self, stage: &Stage, actor: &Actor, acts: &[Act]) -> Result<Vec<Observed>, KernelError> {
        self.ask(stage, actor, acts, false).map(|(observed, _)| observed)
    }

    /// Does one act, and tells everything that is on the actor's file systems afterwards.
    ///
    /// # Errors
    /// As for [`Self::attempt`].
    pub fn aftermath(
        &self,
        stage: &Stage,
        actor: &Actor,
        act: &Act,
    ) -> Result<(Observed, Vec<Shown>), KernelError> {
        let (mut observed, shown) = self.ask(stage, actor, std::slice::from_ref(act), true)?;
        let lost = || KernelError::Harness("the actor did nothing".to_owned());
        Ok((observed.pop().ok_or_else(lost)?, shown))
    }

    fn ask(&self, stage: &Stage, actor: &Actor, acts: &[Act], aftermath: bool) -> Answer {
        let Some(credentials) = actor.credentials.first() else {
            return Err(KernelError::Unsupported("the actor has no identity".to_owned()));
        };
        let job = Job {
            stage: Arc::new(stage.clone()),
            mounts: actor.mounts.clone(),
            credentials: credentials.clone(),
            acts: acts.to_vec(),
            aftermath,
        };
        let (reply, answer) = channel();
        let lost = |_| KernelError::Harness("its thread ended early".to_owned());
        self.jobs
            .send((job, reply))
            .map_err(|_| KernelError::Harness("its thread ended early".to_owned()))?;
        answer.recv().map_err(lost)?
    }
}

struct Shop {
    scratch: PathBuf,
    grounds: Grounds,
    choice: Choice,
}

impl Shop {
    fn work(&mut self, todo: &Receiver<(Job, Sender<Answer>)>) {
        while let Ok((job, reply)) = todo.recv() {
            let _ = reply.send(self.run(&job));
        }
    }

    fn run(&mut self, job: &Job) -> Answer {
        let mut all = Vec::with_capacity(job.acts.len());
        let mut shown = Vec::new();
        let effort = if job.aftermath { Effort::Write } else { Effort::Open };
        while all.len() < job.acts.len() {
            let world = World::build(&job.stage, &job.mounts, &self.scratch, &mut self.grounds, self.choice)?;
            let done = child::perform(&world.root(), &job.credentials, &job.acts[all.len()..], effort);
            let observed: Result<Vec<Observed>, KernelError> = done.map(|records| {
                records.into_iter().map(|record| observed(&world, &job.credentials, record)).collect()
            });
            if job.aftermath {
                shown = world.shown();
            }
            // Each act meets the untouched scene: the actor stops after the first that changed it.
            world.take_down()?;
            let mut observed = observed?;
            if observed.is_empty() {
                return Err(KernelError::Harness("the actor did nothing".to_owned()));
            }
            all.append(&mut observed);
        }
        Ok((all, shown))
    }
}

fn observed(world: &World, who: &Credentials, record: Record) -> Observed {
    match record {
        Record::Failed(raw) => Errno::by_number(raw).map_or(Observed::Other(raw), Observed::Denied),
        Record::Done(Seen { left, runs_as }) => {
            let imprint = left.map(|(imprint, node)| match world.stored_owner(node) {
                Some((uid, gid)) => Imprint { disk_uid: Some(uid), disk_gid: Some(gid), ..imprint },
                None => Imprint { disk_uid: None, disk_gid: None, ..imprint },
            });
            // What this machine lacks altogether is not missed: whoever has all the rest of a bounding set has all of it.
            let here = who.bounding.intersection(crate::held());
            let whole = |set: CapabilitySet| if set == here { who.bounding } else { set };
            let whole = |runs_as: RunsAs| RunsAs {
                effective: whole(runs_as.effective),
                permitted: whole(runs_as.permitted),
                ..runs_as
            };
            Observed::Allowed(Effect { imprint, runs_as: runs_as.map(whole) })
        }
    }
}
