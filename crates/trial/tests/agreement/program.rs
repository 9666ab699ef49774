//! Whom a container's own program makes of its process, and what that one may do: real and effective ids differ then.

use mivask_core::act::parse_act;
use mivask_core::question::ask;

use crate::support::{agree, stage_of};

const IMAGE: &str = r##"
scene: 1
runtime: docker
images:
  i:
    user: null
    accounts: null
    tree:
      - { path: /, kind: dir, owner: "0:0", mode: 0755 }
      - { path: /plain, owner: "0:0", mode: 0755, content: program }
      - { path: /root, owner: "0:0", mode: 4755, content: program }
      - { path: /own, owner: "1000:0", mode: 4755, content: program }
      - { path: /other, owner: "5:0", mode: 4755, content: program }
      - { path: /group, owner: "5:60", mode: 2755, content: program }
      - { path: /marked, owner: "5:60", mode: 2745, content: program }
      - { path: /both, owner: "5:60", mode: 6755, content: program }
      - { path: /held, owner: "0:0", mode: 0755, content: program, capabilities: "DAC_READ_SEARCH=ep" }
      - { path: /kept, owner: "0:0", mode: 0755, content: program, capabilities: "CHOWN=p" }
      - { path: /mixed, owner: "0:0", mode: 4755, content: program, capabilities: "CHOWN=ep" }
      - { path: /script, owner: "0:0", mode: 4755, content: "#!/other" }
      - { path: /real, kind: dir, owner: "1000:1000", mode: 0700 }
      - { path: /real/file, owner: "1000:1000", mode: 0600 }
      - { path: /acting, kind: dir, owner: "5:60", mode: 0770 }
      - { path: /acting/file, owner: "5:60", mode: 0660 }
      - { path: /zero, owner: "0:0", mode: 0600 }
      - { path: /no, owner: "0:0", mode: 0000 }
      - { path: /sticky, kind: dir, owner: "0:0", mode: 1777 }
      - { path: /sticky/real, owner: "1000:1000", mode: 0666 }
      - { path: /sticky/acting, owner: "5:60", mode: 0666 }
containers:
"##;

const PROGRAMS: [&str; 12] =
    ["plain", "root", "own", "other", "group", "marked", "both", "held", "kept", "mixed", "script", "zero"];

/// How the process is before its program starts.
const STARTED: [(&str, &str); 4] = [
    ("root", r#"user: "0:0""#),
    ("user", r#"user: "1000:1000""#),
    ("member", r#"user: "1000:1000", groups: [60]"#),
    ("quiet", r#"user: "1000:1000", no-new-privileges: true"#),
];

const ACTS: [&str; 17] = [
    "may-read /real/file",
    "may-write /real/file",
    "may-read /acting/file",
    "may-write /acting/file",
    "may-read /zero",
    "may-read /no",
    "may-run /no",
    "may-run /plain",
    "reads /real/file",
    "reads /acting/file",
    "reads /no",
    "creates /acting/new",
    "creates /real/new",
    "deletes /sticky/real",
    "deletes /sticky/acting",
    "sets-mode 0644 on /acting/file",
    "sets-owner :1000 on /acting/file",
];

fn scene() -> String {
    let mut text = IMAGE.to_owned();
    for (who, settings) in STARTED {
        text.push_str(&format!("  - {{ name: {who}, image: i, {settings} }}\n"));
        for program in PROGRAMS {
            text.push_str(&format!(
                "  - {{ name: {who}-{program}, image: i, {settings}, program: /{program} }}\n"
            ));
        }
    }
    text
}

#[test]
fn a_program_makes_of_its_process_what_the_kernel_makes_of_it() {
    let stage = stage_of(&scene());
    for (who, _) in STARTED {
        for program in PROGRAMS {
            let act = format!("{who} runs /{program}");
            // The kernel agrees on what it runs as; the identity of a container with that program is the same.
            agree(&stage, "program", &act);
            let ran = ask(&stage, &parse_act(&act).unwrap()).unwrap();
            let actor = stage.actor(&format!("{who}-{program}")).unwrap();
            match ran.effect.runs_as {
                Some(ran) => {
                    let [(_, identity)] = actor.identity.possible.as_slice() else {
                        panic!("{act}: one identity")
                    };
                    assert_eq!((identity.uid, identity.gid), (ran.uid, ran.gid), "{act}");
                    assert_eq!(
                        (identity.effective, identity.permitted),
                        (ran.effective, ran.permitted),
                        "{act}"
                    );
                    assert!(actor.refusal().is_none(), "{act}");
                }
                None => assert!(actor.refusal().is_some(), "{act}: {:?}", ran.outcome),
            }
        }
    }
}

#[test]
fn a_process_with_other_real_ids_acts_as_the_kernel_says() {
    let stage = stage_of(&scene());
    let moved = stage
        .actors
        .iter()
        .filter(|actor| actor.refusal().is_none() && actor.credentials.iter().any(|who| who.real.is_some()));
    let mut count = 0;
    for actor in moved {
        count += 1;
        for act in ACTS {
            agree(&stage, "program", &format!("{} {act}", actor.name));
        }
        for program in PROGRAMS {
            agree(&stage, "program", &format!("{} runs /{program}", actor.name));
        }
    }
    assert!(count >= 10, "{count} processes have other real ids");
}

#[test]
fn a_program_of_which_not_all_is_given_is_taken_for_an_ordinary_one() {
    let text = r#"
scene: 1
images:
  i:
    tree:
      - { path: /p, owner: "0:0" }
      - { path: /q, mode: 4755 }
containers:
  - { name: mode, image: i, user: "1000:1000", program: /p }
  - { name: owner, image: i, user: "1000:1000", program: /q }
  - { name: nothing, image: i, user: "1000:1000", program: /r }
"#;
    let stage = stage_of(text);
    for name in ["mode", "owner", "nothing"] {
        let actor = stage.actor(name).unwrap();
        let uids: Vec<_> =
            actor.identity.possible.iter().map(|(_, identity)| identity.uid.to_string()).collect();
        assert_eq!(uids, ["1000"], "{name}");
        let assumed = actor.identity.assumptions.iter().any(|text| text.contains("neither set-id"));
        assert_eq!(assumed, name != "nothing", "{name}: {:?}", actor.identity.assumptions);
    }
}
