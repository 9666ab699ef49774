//! Text that is no YAML, values of a wrong kind and objects that the API refuses: what is wrong, where, and what to do, in no
//! library's words.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// The message, the place and the help of the first error.
fn told(bytes: &[u8]) -> String {
    let scratch = Scratch::with("other.yaml", "").and("s.yaml", bytes);
    let said = scratch.run(["identity", "s.yaml"]);
    let lines = said.lines().map(str::trim);
    let kept = lines
        .filter(|line| line.starts_with("error: ") || line.starts_with("--> ") || line.starts_with("= help"));
    let kept: Vec<&str> = kept.filter(|line| !line.contains("cannot be used")).collect();
    assert!(said.contains("--- status 2"), "{said}");
    kept.join("\n")
}

#[test]
fn text_that_is_no_yaml() {
    let cases: [&[u8]; 12] = [
        b"scene: 1\ncontainers:\n  - name: a\n\timage: x\n",
        b"scene: 1\ncontainers:\n\t- name: a\n",
        b"scene: 1\ncontainers:\n  - name: a\n   image: x\n",
        b"scene: 1\ncontainers:\n  - name: a\n     image: x\n",
        b"scene: 1\ncontainers: [{ name: a, image: b: c }]\n",
        b"scene: 1\nvolumes:\n  v: { a: 1\n  w: 2\n",
        b"scene: 1\nvolumes: [a b\n",
        b"scene: 1\ncontainers: [{ name: \"a\n",
        b"scene: 1\ncontainers: [{ name: a, user: @5 }]\n",
        b"scene: 1\ncontainers: [{ name: a, user: *b }]\n",
        b"scene: 1\ncontainers: [{ name: \"a\\q\" }]\n",
        b"scene: 1\ncontainers: [{ name: a\0b }]\n",
    ];
    let all: Vec<String> = cases.into_iter().map(told).collect();
    assert_snapshot!(all.join("\n\n"), @r#"
    error: not valid YAML: a tab in the indentation
    --> s.yaml:4:1
    = help: YAML is indented with blanks, not with tabs

    error: not valid YAML: a tab in the indentation
    --> s.yaml:3:1
    = help: YAML is indented with blanks, not with tabs

    error: not valid YAML: the indentation is that of nothing above
    --> s.yaml:4:4
    = help: indent it like its siblings

    error: not valid YAML: this is indented deeper than the line above, which has a value already
    --> s.yaml:4:11
    = help: indent it like its siblings

    error: not valid YAML: a `,` or a `}` is missing before this
    --> s.yaml:2:33
    = help: close the `{`, or put a comma between its parts

    error: not valid YAML: a `,` or a `}` is missing before this
    --> s.yaml:4:4
    = help: close the `{`, or put a comma between its parts

    error: not valid YAML: a `,` or a `]` is missing before this
    --> s.yaml:3:1
    = help: close the `[`, or put a comma between its parts

    error: not valid YAML: the quote that begins here is not closed
    --> s.yaml:2:22
    = help: close it in the same text

    error: not valid YAML: unexpected character: `@'
    --> s.yaml:2:31
    = help: put the text in quotes

    error: not valid YAML: an alias of an anchor that is not above
    --> s.yaml:2:31
    = help: define it with `&`, or put the text in quotes

    error: not valid YAML: YAML knows no such escape
    --> s.yaml:2:22
    = help: write `\\` for a backslash, or use single quotes

    error: not valid YAML: a NUL byte
    --> s.yaml:2:23
    = help: this is not text, or text in UTF-16: save it as UTF-8
    "#);
}

#[test]
fn text_in_another_encoding() {
    let utf16 = |mark: &[u8], order: fn(u16) -> [u8; 2]| {
        let text = "scene: 1\n".encode_utf16().flat_map(order);
        told(&mark.iter().copied().chain(text).collect::<Vec<u8>>())
    };
    let little = utf16(b"\xff\xfe", u16::to_le_bytes);
    assert_snapshot!(little, @"error: s.yaml:1:1: text in UTF-16: save it as UTF-8, or convert it with `iconv -f UTF-16 -t UTF-8`");
    for other in
        [utf16(b"\xfe\xff", u16::to_be_bytes), utf16(b"", u16::to_le_bytes), utf16(b"", u16::to_be_bytes)]
    {
        assert_eq!(little, other);
    }
    assert_snapshot!(told(b"scene: 1\n# caf\xc3\xa9 \xe9\n"), @"error: s.yaml:2:8: not UTF-8 text (byte 17)");
}

#[test]
fn values_of_another_kind() {
    let cases = [
        "containers: [{ name: a, groups: [4294967296] }]",
        "containers: [{ name: a, groups: 5 }]",
        "containers: [{ image: x }]",
        "containers: [{ name: a, mounts: [{ at: /v }] }]",
        "containers: [{ name: [a] }]",
        "volumes: { v: { tree: { path: 3 } } }",
    ];
    let all: Vec<String> = cases.iter().map(|text| told(format!("scene: 1\n{text}\n").as_bytes())).collect();
    let all = all.join("\n\n");
    for word in ["field", "variant", "u32", "integer `", "string \"", "struct", "enum"] {
        assert!(!all.contains(word), "{word}: {all}");
    }
    assert_snapshot!(all, @"
    error: expected a number from 0 to 4294967295, found `4294967296`
    --> s.yaml:2:34

    error: expected a list, found `5`
    --> s.yaml:2:33
    = help: write [5]

    error: `name` is missing
    --> s.yaml:2:14

    error: `volume` is missing
    --> s.yaml:2:34

    error: expected text, found a list
    --> s.yaml:2:22

    error: expected the path of a source, or a list of inodes, found a mapping
    --> s.yaml:2:23
    ");
}

/// Of a long line only what is near is shown; the column is that of the file, and so it is behind characters that are escaped.
#[test]
fn columns_are_those_of_the_file() {
    let long = format!("scene: 1\ncontainers: [{{ name: a, umask: {}0022, groups: x }}]\n", " ".repeat(300));
    let column = long.lines().nth(1).and_then(|line| line.find("x }")).expect("it is there") + 1;
    assert!(told(long.as_bytes()).contains(&format!("s.yaml:2:{column}")), "{}", told(long.as_bytes()));
    let hidden = "scene: 1\ncontainers: [{ name: \"\u{202e}\u{e9}\", groups: x }]\n";
    let column =
        hidden.lines().nth(1).and_then(|line| line.chars().position(|c| c == 'x')).expect("it is there") + 1;
    assert!(told(hidden.as_bytes()).contains(&format!("s.yaml:2:{column}")), "{}", told(hidden.as_bytes()));
}

/// One JSON text after the other, as a cluster's tools write them.
#[test]
fn several_json_objects() {
    let pod = |name: &str| {
        format!(
            "{{\n\"apiVersion\": \"v1\", \"kind\": \"Pod\",\n\"metadata\": {{\"name\": \"{name}\"}},\n\
             \"spec\": {{\"containers\": [{{\"name\": \"{name}\", \"image\": \"x\", \"securityContext\": {{\"runAsUser\": 5101}}}}]}}\n}}\n"
        )
    };
    let scratch = Scratch::with("two.json", &format!("{}{}", pod("gauge"), pod("scribe")));
    let told =
        scratch.run(["ask", "-q", "two.json", "gauge reads /proc/version", "scribe reads /proc/version"]);
    assert!(
        told.contains("gauge reads") && told.contains("scribe reads") && told.contains("status 0"),
        "{told}"
    );
}

/// What the API server refuses about the sources of volumes, and kinds in the wrong case.
#[test]
fn what_the_api_refuses() {
    let pod = |volumes: &str| {
        let text = format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: tide }}\nspec:\n  containers: [{{ name: c, image: x }}]\n  volumes:\n{volumes}"
        );
        Scratch::with("pod.yaml", &text).run(["identity", "pod.yaml"])
    };
    let refused =
        pod("  - { name: v, emptyDir: {}, hostPath: { path: /srv } }\n  - { name: w, configMap: {} }\n\
        \x20 - { name: s, secret: { optional: true } }\n  - { name: e, ephemeral: {} }\n\
        \x20 - { name: p, persistentVolumeClaim: { claimName: '' } }\n");
    assert_snapshot!(refused, @"
    --- standard error
    error: volume `v` has two sources, emptyDir and hostPath: the API refuses that
     --> pod.yaml:7:40
      |
    7 |   - { name: v, emptyDir: {}, hostPath: { path: /srv } }
      |                                        ^^^^^^^^^^^^
      |
      = help: keep one of them, or make it two volumes

    error: configMap of volume `w` has no name: the API refuses that
     --> pod.yaml:8:27
      |
    8 |   - { name: w, configMap: {} }
      |                           ^^
      |
      = help: write `configMap: { name: ... }`

    error: secret of volume `s` has no secretName: the API refuses that
     --> pod.yaml:9:24
      |
    9 |   - { name: s, secret: { optional: true } }
      |                        ^^^^^^^^^^^^^^^^
      |
      = help: write `secret: { secretName: ... }`

    error: ephemeral of volume `e` has no volumeClaimTemplate: the API refuses that
      --> pod.yaml:10:27
       |
    10 |   - { name: e, ephemeral: {} }
       |                           ^^
       |
       = help: write `ephemeral: { volumeClaimTemplate: ... }`

    error: persistentVolumeClaim of volume `p` has no claimName: the API refuses that
      --> pod.yaml:11:39
       |
    11 |   - { name: p, persistentVolumeClaim: { claimName: '' } }
       |                                       ^^^^^^^^^^^^^^^
       |
       = help: write `persistentVolumeClaim: { claimName: ... }`

    error: the input cannot be used: 5 errors above
    --- status 2
    ");
    assert!(pod("  - { name: v, emptyDir: {}, hostPath: null }\n").contains("status 0"));
}

/// Kinds in the wrong case, and versions that the API no longer serves.
#[test]
fn what_the_api_does_not_know() {
    let small = Scratch::with("pod.yaml", "apiVersion: v1\nkind: pod\nmetadata: { name: tide }\n");
    assert_snapshot!(small.run(["identity", "pod.yaml"]), @"
    --- standard error
    error: the API knows no kind `pod`
     --> pod.yaml:2:7
      |
    2 | kind: pod
      |       ^^^
      |
      = help: did you mean `Pod`? Letter case counts

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    let old =
        Scratch::with("old.yaml", "apiVersion: apps/v1beta1\nkind: Deployment\nmetadata: { name: tide }\n");
    assert_snapshot!(old.run(["identity", "old.yaml"]), @"
    --- standard error
    error: expected `apiVersion: apps/v1` of a Deployment, found `apps/v1beta1`
     --> old.yaml:1:13
      |
    1 | apiVersion: apps/v1beta1
      |             ^^^^^^^^^^^^
      |
      = help: write `apiVersion: apps/v1`, which is what is read

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}
