//! Account lines that no account tool writes, as Docker (with runc) and Podman (with crun) take them (docs/facts/runtimes.md 1.4).

mod fixtures;

use fixtures::{identity, stage};

/// Who a container with `user` is, with lines of every malformed kind in its image's account files.
fn who(runtime: &str, service: &str) -> String {
    let scene = format!(
        "scene: 1
runtime: {runtime}
workloads: [compose.yaml]
images:
  i:
    user: null
    accounts:
      passwd: |
        root:x:0:0::/root:/bin/sh
        alice:x:1000:1000::/:
        wraps:x:4294967296:3600::/:
        large:x:3000000000:3700::/:
        negative:x:-5:3800::/:
        negative-group:x:3900:-7::/:
        large-group:x:3901:3000000000::/:
        lonely-group:x:3902:3000000001::/:
        minus-one:x:4294967295:1000::/:
        in-negative:x:4000:4000::/:
        in-wraps:x:4001:4001::/:
        in-large:x:4002:4002::/:
        in-edge:x:4005:4005::/:
      group: |
        root:x:0:
        alice:x:1000:
        negative:x:-7:in-negative
        wraps:x:4294967296:in-wraps
        large:x:3000000000:in-large
        edge:x:2147483646:in-edge
        over:x:2147483647:in-edge
"
    );
    let compose = format!("services:\n  c: {{ image: i, {service} }}\n");
    identity(&stage("s.yaml", &[("s.yaml", &scene), ("compose.yaml", &compose)]))
}

const RANGE: &str = "uids and gids must be in range 0-2147483647";
const RUNC: &str = "out of range: runc takes ids up to 2147483647";

macro_rules! lines {
    ($($name:ident: $service:literal => docker $docker:expr, podman $podman:expr;)+) => {$(
        #[test]
        fn $name() {
            let is = |runtime, expected: &str| {
                let who = who(runtime, $service);
                assert!(if expected.contains("range") { who.ends_with(expected) } else { who == expected }, "{runtime}: {who}");
            };
            is("docker", $docker);
            is("podman", $podman);
        }
    )+};
}

lines! {
    // The range is not checked of a number that a line has.
    a_large_user: "user: large" => docker "3000000000:3700 3700", podman "3000000000:3700 3700";
    a_large_number: "user: '3000000000'" => docker "3000000000:3700 3700", podman "3000000000:3700 3700";
    a_large_number_of_nobody: "user: '3000000009'" => docker RANGE, podman RANGE;
    a_number_that_wraps: "user: '4294967296'" => docker "0:3600 3600", podman "0:3600 3600";
    a_negative_user: "user: negative" => docker RUNC, podman "4294967291:3800 3800";
    a_negative_group: "user: negative-group" => docker RUNC, podman "3900:4294967289 4294967289";
    a_large_group: "user: large-group" => docker "3901:3000000000 3000000000", podman "3901:3000000000 3000000000";
    a_large_group_without_a_line: "user: lonely-group" => docker RUNC, podman "3902:3000000001 3000000001";
    a_large_group_named: "user: 'alice:large'" => docker "1000:3000000000 3000000000", podman "1000:3000000000 3000000000";
    a_large_group_by_number: "user: 'alice:3000000000'" => docker "1000:3000000000 3000000000", podman "1000:3000000000 3000000000";
    a_member_of_a_negative_group: "user: in-negative" => docker RUNC, podman "4000:4000 4000";
    a_member_of_one_that_wraps: "user: in-wraps" => docker "4001:4001 0,4001", podman "4001:4001 4001";
    a_member_of_a_large_one: "user: in-large" => docker "4002:4002 4002,3000000000", podman "4002:4002 4002";
    podman_passes_over_the_largest: "user: in-edge" => docker "4005:4005 4005,2147483646,2147483647", podman "4005:4005 4005,2147483646";
    a_large_one_added: "user: '1000:1000', group_add: [large]" => docker "1000:1000 1000,3000000000", podman "1000:1000 1000,3000000000";
    minus_one: "user: minus-one" => docker RUNC, podman "0:1000 1000";
}
