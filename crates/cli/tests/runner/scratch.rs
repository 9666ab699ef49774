//! A temporary folder in which the program is run.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::io::Write;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use tempfile::TempDir;

/// What would send a test elsewhere.
const AMBIENT: [&str; 14] = [
    "HTTP_PROXY",
    "http_proxy",
    "HTTPS_PROXY",
    "https_proxy",
    "ALL_PROXY",
    "all_proxy",
    "NO_PROXY",
    "no_proxy",
    "DOCKER_HOST",
    "DOCKER_CONFIG",
    "CONTAINER_HOST",
    "REGISTRY_AUTH_FILE",
    "XDG_CONFIG_HOME",
    "SSL_CERT_FILE",
];

/// Standard output, standard error and exit status.
fn transcript(output: &Output) -> String {
    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
    let mut transcript = text(&output.stdout);
    if !output.stderr.is_empty() {
        transcript.push_str("--- standard error\n");
        transcript.push_str(&text(&output.stderr));
    }
    format!("{transcript}--- status {}", output.status.code().unwrap())
}

/// A temporary folder with files in it.
pub(crate) struct Scratch(TempDir);

impl Scratch {
    /// A folder with one file.
    pub(crate) fn with(name: &str, text: &str) -> Self {
        Self(tempfile::tempdir().unwrap()).and(name, text)
    }

    /// The folder with one more file.
    pub(crate) fn and(self, name: &str, text: impl AsRef<[u8]>) -> Self {
        let path = self.0.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
        self
    }

    /// The folder with one more file that can be run. It is written by a process of its own: whoever forks beside this one
    /// inherits what is open for writing, and such a file does not run (ETXTBSY).
    pub(crate) fn and_program(self, name: &str, text: impl AsRef<[u8]>) -> Self {
        let scratch = self.and(&format!("{name}.text"), text);
        let path = scratch.0.path().join(name);
        let mut install = Command::new("install");
        let text = scratch.0.path().join(format!("{name}.text"));
        let done = install.args(["-m", "755"]).arg(text).arg(&path);
        assert!(done.status().unwrap().success(), "{name}");
        scratch
    }

    /// The folder itself.
    pub(crate) fn path(&self) -> &Path {
        self.0.path()
    }

    /// Standard output, standard error and exit status of one run, as a transcript.
    pub(crate) fn run<'w>(&self, words: impl AsRef<[&'w str]>) -> String {
        self.feed(words, b"")
    }

    /// The same with `input` on standard input.
    pub(crate) fn feed<'w>(&self, words: impl AsRef<[&'w str]>, input: &[u8]) -> String {
        transcript(&self.output(words, input))
    }

    /// Standard output as JSON; the run must succeed without a word on standard error.
    pub(crate) fn json<'w>(&self, words: impl AsRef<[&'w str]>) -> serde_json::Value {
        let output = self.output(words, b"");
        assert_eq!(String::from_utf8_lossy(&output.stderr), "");
        serde_json::from_slice(&output.stdout).unwrap()
    }

    /// The same, whatever the exit status is.
    pub(crate) fn json_of<'w>(&self, words: impl AsRef<[&'w str]>) -> serde_json::Value {
        serde_json::from_slice(&self.output(words, b"").stdout).unwrap()
    }

    /// A run whose home, cache and network settings are the folder's, and what `more` says.
    pub(crate) fn at_home<'w>(&self, words: impl AsRef<[&'w str]>, more: &[(&str, &str)]) -> String {
        let mut command = self.command(words);
        for name in AMBIENT {
            command.env_remove(name);
        }
        command.env("HOME", self.path()).env("XDG_CACHE_HOME", self.path().join("cache"));
        command.env("XDG_RUNTIME_DIR", self.path()).envs(more.iter().copied());
        let output = command.stdin(Stdio::null()).output().unwrap();
        transcript(&output)
    }

    fn command<'w>(&self, words: impl AsRef<[&'w str]>) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_mivask"));
        command.args(words.as_ref()).current_dir(self.0.path()).env_remove("COLUMNS");
        command
    }

    fn output<'w>(&self, words: impl AsRef<[&'w str]>, input: &[u8]) -> Output {
        let mut child = self
            .command(words)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        // A program that does not read its input may be gone already.
        let _ = child.stdin.take().unwrap().write_all(input);
        child.wait_with_output().unwrap()
    }
}

/// The pod of the first example, around a security context.
pub(crate) fn pod(security: &str) -> String {
    format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  automountServiceAccountToken: false\n  \
         securityContext: {security}\n  containers:\n  - name: gauge\n    image: tides/gauge:3\n    volumeMounts:\n    - \
         {{ name: app, mountPath: /data/app }}\n  volumes:\n  - {{ name: app, emptyDir: {{}} }}\n"
    )
}

/// The security context of the first example.
pub(crate) const TIDES: &str = "{ runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300 }";

/// A scene that knows the image of the first example.
pub(crate) const SCENE: &str = "\
scene: 1
workloads: [pod.yaml]
images:
  tides/gauge:3:
    user: null
    accounts: { passwd: 'root:x:0:0::/root:/bin/sh', group: 'root:x:0:' }
    tree:
      - { path: /, kind: dir, owner: '0:0', mode: 0755 }
      - { path: /open, kind: dir, owner: '0:0', mode: 0777 }
      - { path: /closed, kind: dir, owner: '405:1001', mode: 0750 }
      - { path: /closed/key, owner: '405:1001', mode: 0400 }
      - { path: /bin/tide, owner: '0:0', mode: 4755, content: program }
";

/// Two containers and root on one volume, without a manifest: nothing to warn of.
pub(crate) const BOATS: &str = "\
scene: 1
host: { tree: [{ path: /srv, kind: dir, owner: '0:0', mode: 0755 }] }
volumes:
  hold:
    filesystem: ext4
    tree:
      - { path: /, kind: dir, owner: '0:500', mode: 2775 }
      - { path: /log, owner: '101:500', mode: 0644 }
      - { path: /keys, kind: dir, owner: '101:101', mode: 0750 }
      - { path: /keys/id_rsa, owner: '101:500', mode: 0640 }
      - { path: /drop, kind: dir, owner: '0:0', mode: 0777 }
      - { path: /old, kind: dir, owner: '0:500', mode: 2740 }
images:
  boats/mate:1:
    user: null
    accounts: { passwd: 'mate:x:101:101::/:/bin/sh', group: \"mate:x:101:\\ncrew:x:500:\" }
    tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /bin/lend, owner: '0:0', mode: 4755, content: program }]
containers:
  - { name: mate, image: 'boats/mate:1', user: '101:101', groups: [500], mounts: [{ volume: hold, at: /hold }] }
  - { name: cook, user: '102:102', groups: [500], umask: '0002', no-new-privileges: true, mounts: [{ volume: hold, at: /stores }] }
  - { name: stowaway, user: '900:900', no-new-privileges: true, mounts: [{ volume: hold, at: /hold, read-only: true }] }
";
