//! Documents held against the tables of the APIs, also in the parts that nothing here reads: what is accepted, and where and how a
//! mistake is said.

use mivask_core::scene::Scene;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::kubernetes::add;
use mivask_read::skipped::Skipped;
use mivask_read::text::SourceText;
use mivask_read::yaml;

/// Each diagnostic of a stream as `line: message`, with its help where there is one.
fn said(text: &str) -> Vec<String> {
    let source = SourceText::new("m.yaml", text);
    let (mut diagnostics, mut scene, mut skipped) =
        (Diagnostics::default(), Scene::default(), Skipped::default());
    for node in &yaml::parse(&source, &mut diagnostics) {
        add(node, &source, &mut scene, &mut skipped, &mut diagnostics);
    }
    let line = |one: &mivask_read::diagnostic::Diagnostic| {
        let (line, _) = source.line_column(one.span.start);
        let help = one.help.as_deref().map_or_else(String::new, |help| format!(" ({help})"));
        format!("{line}: {}{help}", one.message)
    };
    diagnostics.iter().map(line).collect()
}

/// A pod whose spec has `field` in its first line and `container` in its container.
fn pod(field: &str, container: &str) -> String {
    format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  {field}\n  containers:\n    - name: c\n      image: i\n      {container}\n"
    )
}

macro_rules! fields_of_a_pod {
    ($($name:ident: $field:literal => $($said:literal),*;)+) => {$(
        #[test]
        fn $name() {
            let expected: &[&str] = &[$($said),*];
            assert_eq!(said(&pod($field, "tty: true")), expected);
        }
    )+};
}

macro_rules! fields_of_a_container {
    ($($name:ident: $field:literal => $($said:literal),*;)+) => {$(
        #[test]
        fn $name() {
            let expected: &[&str] = &[$($said),*];
            assert_eq!(said(&pod("restartPolicy: Never", $field)), expected);
        }
    )+};
}

macro_rules! objects {
    ($($name:ident: $text:literal => $($said:literal),*;)+) => {$(
        #[test]
        fn $name() {
            let expected: &[&str] = &[$($said),*];
            assert_eq!(said($text), expected);
        }
    )+};
}

fields_of_a_pod! {
    a_text: "nodeName: n1" => ;
    a_number_for_a_text: "nodeName: 7" => "5: expected text, found `7` (put it in quotes: \"7\")";
    a_list_for_a_text: "nodeName: [n1]" => "5: expected text, found a list";
    a_mapping_for_a_text: "hostname: { a: b }" => "5: expected text, found a mapping";
    a_truth: "hostIPC: false" => ;
    a_word_for_a_truth: "hostIPC: yes please" => "5: expected true or false, found the text `yes please`";
    a_text_for_a_truth: "hostIPC: 'true'" => "5: expected true or false, found the text `true` (a truth value in quotes is text: remove the quotes)";
    a_whole_number: "priority: -5" => ;
    a_number_beyond_32_bits: "priority: 2147483648" => "5: expected a number from -2147483648 to 2147483647, found `2147483648`";
    a_number_beyond_64_bits: "activeDeadlineSeconds: 9223372036854775808" => "5: expected a whole number, found `9223372036854775808`";
    a_broken_number: "priority: 1.5" => "5: expected a whole number, found `1.5`";
    a_text_for_a_number: "priority: high" => "5: expected a whole number, found the text `high`";
    a_number_in_quotes: "priority: '5'" => "5: expected a number, found the text `5` (a number in quotes is text: remove the quotes)";
    nothing_counts_as_missing: "priority: null" => ;
    a_list_of_mappings: "hostAliases: [{ ip: 10.0.0.1, hostnames: [a, b] }]" => ;
    a_mapping_for_a_list: "hostAliases: { ip: 10.0.0.1 }" => "5: expected a list, found a mapping (begin each element with `- `)";
    a_text_for_a_list: "hostAliases: a" => "5: expected a list, found the text `a` (write [a])";
    a_wrong_item_deep_in_a_list: "hostAliases: [{ ip: 10.0.0.1, hostnames: [a, 7] }]" => "5: expected text, found `7` (put it in quotes: \"7\")";
    a_mapping_of_texts: "nodeSelector: { disk: ssd }" => ;
    a_number_in_a_mapping_of_texts: "nodeSelector: { disk: 7 }" => "5: expected text, found `7` (put it in quotes: \"7\")";
    a_truth_in_a_mapping_of_texts: "nodeSelector: { disk: true }" => "5: expected text, found `true` (put it in quotes: \"true\")";
    a_quantity_is_a_number_or_a_text: "overhead: { cpu: 0.5, memory: 1Gi }" => ;
    a_truth_is_no_quantity: "overhead: { cpu: true }" => "5: expected a number or text, found `true`";
    an_unknown_key_of_the_spec: "nodename: n1" => "5: unknown key `nodename`, ignored (did you mean `nodeName`?)";
    an_unknown_key_below: "dnsConfig: { nameserver: [a] }" => "5: unknown key `nameserver`, ignored (did you mean `nameservers`?)";
    an_unknown_key_in_a_list: "tolerations: [{ key: a }, { kei: b }]" => "5: unknown key `kei`, ignored (did you mean `key`?)";
    several_unknown_keys: "dnsConfig: { nameserver: [a], search: [b] }" => "5: unknown key `nameserver`, ignored (did you mean `nameservers`?)", "5: unknown key `search`, ignored (did you mean `searches`?)";
    a_struct_that_is_a_text: "dnsConfig: none" => "5: expected a mapping, found the text `none`";
    a_struct_that_is_a_list: "affinity: []" => "5: expected a mapping, found a list";
    the_depths_of_an_affinity: "affinity: { nodeAffinity: { requiredDuringSchedulingIgnoredDuringExecution: { nodeSelectorTerms: [{ matchExpressions: [{ key: a, operator: In, values: [b, 1] }] }] } } }" => "5: expected text, found `1` (put it in quotes: \"1\")";
}

fields_of_a_container! {
    a_port_by_name_or_number: "livenessProbe: { httpGet: { port: http }, tcpSocket: { port: 80 } }" => ;
    a_port_that_is_neither: "livenessProbe: { httpGet: { port: [80] } }" => "9: expected a number or text, found a list";
    a_probe_misspelt: "livenessprobe: { httpGet: { port: 80 } }" => "9: unknown key `livenessprobe`, ignored (did you mean `livenessProbe`?)";
    arguments_are_texts: "args: [a, 'true']" => ;
    an_argument_that_is_a_truth: "args: [a, true]" => "9: expected text, found `true` (put it in quotes: \"true\")";
    a_limit_by_number_and_text: "resources: { limits: { cpu: 2, memory: 64Mi } }" => ;
    a_limit_that_is_a_list: "resources: { limits: { cpu: [2] } }" => "9: expected a number or text, found a list";
    an_environment_by_reference: "env: [{ name: A, valueFrom: { fieldRef: { fieldPath: metadata.name } } }]" => ;
    an_environment_of_a_number: "env: [{ name: A, value: 7 }]" => "9: expected text, found `7` (put it in quotes: \"7\")";
    a_hook: "lifecycle: { preStop: { exec: { command: [sh] } } }" => ;
    a_hook_misspelt: "lifecycle: { prestop: { exec: { command: [sh] } } }" => "9: unknown key `prestop`, ignored (did you mean `preStop`?)";
    a_seccomp_profile: "securityContext: { seccompProfile: { type: RuntimeDefault } }" => ;
    a_seccomp_profile_that_is_a_text: "securityContext: { seccompProfile: RuntimeDefault }" => "9: expected a mapping, found the text `RuntimeDefault`";
}

objects! {
    a_time: "apiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: { name: s, creationTimestamp: 2026-11-29T08:30:00Z }\n" => ;
    no_time: "apiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: { name: s, creationTimestamp: yesterday }\n" => "3: expected a time such as 2026-11-29T08:30:00Z, found the text `yesterday`";
    a_claim: "apiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: { name: c }\nspec: { accessModes: [ReadWriteOnce], resources: { requests: { storage: 1Gi } } }\n" => ;
    a_claim_with_one_mode: "apiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: { name: c }\nspec:\n  accessModes: ReadWriteOnce\n" => "5: expected a list, found the text `ReadWriteOnce` (write [ReadWriteOnce])";
    a_driver: "apiVersion: storage.k8s.io/v1\nkind: CSIDriver\nmetadata: { name: d }\nspec: { fsGroupPolicy: File, seLinuxMount: true }\n" => ;
    a_driver_misspelt: "apiVersion: storage.k8s.io/v1\nkind: CSIDriver\nmetadata: { name: d }\nspec: { fsgroupPolicy: File }\n" => "4: unknown key `fsgroupPolicy`, ignored (did you mean `fsGroupPolicy`?)";
    a_truth_of_a_driver: "apiVersion: storage.k8s.io/v1\nkind: CSIDriver\nmetadata: { name: d }\nspec: { seLinuxMount: maybe }\n" => "4: expected true or false, found the text `maybe`";
    a_template_of_a_claim: "apiVersion: apps/v1\nkind: StatefulSet\nmetadata: { name: s }\nspec:\n  serviceName: s\n  selector: { matchLabels: { a: b } }\n  template: { metadata: { labels: { a: b } }, spec: { containers: [{ name: c, image: i }] } }\n  volumeClaimTemplates: [{ metadata: { name: d }, spec: { accessMode: [ReadWriteOnce] } }]\n" => "8: unknown key `accessMode`, ignored (did you mean `accessModes`?)";
    a_rollout: "apiVersion: apps/v1\nkind: Deployment\nmetadata: { name: d }\nspec:\n  replicas: two\n  selector: { matchLabels: { a: b } }\n  template: { spec: { containers: [{ name: c, image: i }] } }\n" => "5: expected a whole number, found the text `two`";
    a_schedule: "apiVersion: batch/v1\nkind: CronJob\nmetadata: { name: j }\nspec:\n  schedule: 7\n  jobTemplate: { spec: { template: { spec: { restartPolicy: Never, containers: [{ name: c, image: i }] } } } }\n" => "5: expected text, found `7` (put it in quotes: \"7\")";
}
