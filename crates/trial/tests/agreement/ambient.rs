//! What a program keeps of its caller's ambient and inheritable capabilities, and who opens a script.

use mivask_core::act::parse_act;
use mivask_core::question::ask;

use crate::support::{agree, stage_of};

/// Podman puts what is added into force for a user who is not root, and makes it ambient.
const POD: &str = r##"
scene: 1
runtime: podman
workloads: []
images:
  i:
    tree:
      - { path: /, kind: dir, owner: "0:0", mode: 0755 }
      - { path: /plain, owner: "0:0", mode: 0755, content: program }
      - { path: /own, owner: "1000:0", mode: 4755, content: program }
      - { path: /in-group, owner: "0:50", mode: 2755, content: program }
      - { path: /other-group, owner: "0:60", mode: 2755, content: program }
      - { path: /other, owner: "5:0", mode: 4755, content: program }
      - { path: /root, owner: "0:0", mode: 4755, content: program }
      - { path: /net, owner: "0:0", mode: 0755, content: program, capabilities: "NET_RAW=ep" }
      - { path: /inherits, owner: "0:0", mode: 0755, content: program, capabilities: "CHOWN=ei" }
      - { path: /kept, owner: "0:0", mode: 0755, content: program, capabilities: "CHOWN=i" }
      - { path: /int, owner: "0:0", mode: 4755, content: program }
      - { path: /reader, owner: "0:0", mode: 0755, content: program, capabilities: "DAC_READ_SEARCH=ep" }
      - { path: /script, owner: "0:0", mode: 0711, content: "#!/int" }
      - { path: /by-reader, owner: "0:0", mode: 0711, content: "#!/reader" }
      - { path: /by-plain, owner: "0:0", mode: 0711, content: "#!/plain" }
      - { path: /closed, owner: "1000:0", mode: 0511, content: "#!/other" }
containers:
  - { name: user, image: i, user: "1000:1000", groups: [50], capabilities: { add: [CHOWN, NET_RAW, DAC_READ_SEARCH] } }
  - { name: plain, image: i, user: "1000:1000", groups: [50] }
  - { name: new, image: i, user: "1000:1000", groups: [50], capabilities: { add: [CHOWN] }, no-new-privileges: true }
  - { name: root, image: i, user: "0:0", groups: [50] }
"##;

const PROGRAMS: [&str; 13] = [
    "plain",
    "own",
    "in-group",
    "other-group",
    "other",
    "root",
    "net",
    "inherits",
    "kept",
    "script",
    "by-reader",
    "by-plain",
    "closed",
];

#[test]
fn programs_keep_what_the_kernel_lets_them_keep() {
    let stage = stage_of(POD);
    for actor in ["user", "plain", "new", "root"] {
        for program in PROGRAMS {
            agree(&stage, "ambient", &format!("{actor} runs /{program}"));
        }
    }
}

#[test]
fn the_user_of_podman_keeps_what_was_added() {
    let stage = stage_of(POD);
    let kept = |program: &str| {
        let answer = ask(&stage, &parse_act(&format!("user runs /{program}")).unwrap()).unwrap();
        answer.effect.runs_as.map(|runs_as| runs_as.effective.to_string())
    };
    let all = Some("CHOWN DAC_READ_SEARCH NET_RAW".to_owned());
    assert_eq!(["plain", "own", "in-group"].map(kept), [all.clone(), all.clone(), all]);
    assert_eq!(kept("other-group"), kept("other"));
}
