//! Workloads and pods.

use serde::Deserialize;
use serde::de::IgnoredAny;

use super::claim::PersistentVolumeClaim;
use super::meta::ObjectMeta;
use super::volumes::Volume;

/// A Pod.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct Pod {
    /// Its name.
    pub metadata: ObjectMeta,
    /// What runs.
    pub spec: Option<PodSpec>,
}

/// A kind that holds a pod at `spec.template`: Deployment, DaemonSet, ReplicaSet, ReplicationController, Job.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct Templated {
    /// Its name.
    pub metadata: ObjectMeta,
    /// What it makes pods of.
    pub spec: Option<TemplatedSpec>,
}

/// `spec` of such a kind.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct TemplatedSpec {
    /// The pod.
    pub template: Option<PodTemplateSpec>,
}

/// A StatefulSet.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct StatefulSet {
    /// Its name.
    pub metadata: ObjectMeta,
    /// What it makes pods and claims of.
    pub spec: StatefulSetSpec,
}

/// `spec` of a StatefulSet.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct StatefulSetSpec {
    /// The pod.
    pub template: PodTemplateSpec,
    /// The claims of each pod.
    pub volume_claim_templates: Vec<PersistentVolumeClaim>,
}

/// A CronJob.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct CronJob {
    /// Its name.
    pub metadata: ObjectMeta,
    /// What it makes jobs of.
    pub spec: CronJobSpec,
}

/// `spec` of a CronJob.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct CronJobSpec {
    /// The job.
    pub job_template: JobTemplateSpec,
}

/// `spec.jobTemplate` of a CronJob.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct JobTemplateSpec {
    /// What the job makes pods of.
    pub spec: Option<TemplatedSpec>,
}

/// A PodTemplate.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PodTemplate {
    /// Its name.
    pub metadata: ObjectMeta,
    /// The pod.
    pub template: Option<PodTemplateSpec>,
}

/// A pod within another kind.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PodTemplateSpec {
    /// What runs.
    pub spec: Option<PodSpec>,
}

/// `spec` of a pod.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PodSpec {
    /// The ordinary containers.
    pub containers: Vec<Container>,
    /// Those that run before, sidecars among them.
    pub init_containers: Vec<Container>,
    /// Those added for looking around; what is read of them they share with the others.
    pub ephemeral_containers: Vec<Container>,
    /// What its containers can mount.
    pub volumes: Vec<Volume>,
    /// Ids of all containers.
    pub security_context: Option<PodSecurityContext>,
    /// `false` gives it a user namespace of its own.
    pub host_users: Option<bool>,
    /// `true` gives it the `/dev/shm` and the message queues of the node.
    #[serde(rename = "hostIPC")]
    pub host_ipc: Option<bool>,
    /// `true` lets it see the processes of the node; refused where it has a user namespace of its own.
    #[serde(rename = "hostPID")]
    pub host_pid: Option<bool>,
    /// Whether a token is mounted.
    pub automount_service_account_token: Option<bool>,
}

/// A container.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct Container {
    /// Its name.
    pub name: String,
    /// Its image.
    pub image: Option<String>,
    /// Its variables.
    pub env: Vec<EnvVar>,
    /// Where further variables come from.
    pub env_from: Vec<IgnoredAny>,
    /// Its ids and capabilities.
    pub security_context: Option<SecurityContext>,
    /// What is mounted where.
    pub volume_mounts: Vec<VolumeMount>,
    /// Its working directory.
    pub working_dir: Option<String>,
    /// `tty`
    pub tty: Option<bool>,
    /// `stdin`
    pub stdin: Option<bool>,
    /// What it starts, in place of the image's entrypoint.
    pub command: Vec<String>,
    /// The arguments, in place of the image's.
    pub args: Vec<String>,
    /// The file for its last words.
    pub termination_message_path: Option<String>,
    /// `Always` makes an init container a sidecar.
    pub restart_policy: Option<String>,
}

/// A variable.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct EnvVar {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: Option<String>,
    /// Where its value comes from.
    pub value_from: Option<EnvVarSource>,
}

/// `valueFrom`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct EnvVarSource {
    /// A field of the pod.
    pub field_ref: Option<ObjectFieldSelector>,
}

/// `fieldRef`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct ObjectFieldSelector {
    /// The path of the field.
    pub field_path: String,
}

/// A volume in a container.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct VolumeMount {
    /// The volume.
    pub name: String,
    /// Where it is mounted.
    pub mount_path: String,
    /// The part of the volume.
    pub sub_path: Option<String>,
    /// The same with variables.
    pub sub_path_expr: Option<String>,
    /// Whether it is read-only.
    pub read_only: Option<bool>,
    /// Whether mounts below are, too.
    pub recursive_read_only: Option<String>,
    /// Whether later mounts travel.
    pub mount_propagation: Option<String>,
    /// Flags of the mount.
    pub bind_mount_options: Option<IgnoredAny>,
}

/// `securityContext` of a pod.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PodSecurityContext {
    /// The user id inside.
    pub run_as_user: Option<i64>,
    /// The primary group id inside.
    pub run_as_group: Option<i64>,
    /// Whether root is refused.
    pub run_as_non_root: Option<bool>,
    /// Further group ids.
    pub supplemental_groups: Vec<i64>,
    /// Whether groups of the image count.
    pub supplemental_groups_policy: Option<String>,
    /// The group that volumes are given.
    pub fs_group: Option<i64>,
    /// When they are given it.
    pub fs_group_change_policy: Option<String>,
    /// How volumes are given its label.
    pub se_linux_change_policy: Option<String>,
    /// A label.
    pub se_linux_options: Option<SeLinuxOptions>,
    /// A profile.
    pub app_armor_profile: Option<SecurityProfile>,
    /// A filter of system calls.
    pub seccomp_profile: Option<SecurityProfile>,
}

/// The parts of a label.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct SeLinuxOptions {
    /// The policy's user.
    pub user: Option<String>,
    /// The role.
    pub role: Option<String>,
    /// The type.
    #[serde(rename = "type")]
    pub type_: Option<String>,
    /// The level.
    pub level: Option<String>,
}

/// `securityContext` of a container.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct SecurityContext {
    /// The user id inside.
    pub run_as_user: Option<i64>,
    /// The primary group id inside.
    pub run_as_group: Option<i64>,
    /// Whether root is refused.
    pub run_as_non_root: Option<bool>,
    /// Capabilities beside the usual ones.
    pub capabilities: Option<Capabilities>,
    /// Whether it has all of them and every device.
    pub privileged: Option<bool>,
    /// `false` sets no_new_privs.
    pub allow_privilege_escalation: Option<bool>,
    /// Whether its root is read-only.
    pub read_only_root_filesystem: Option<bool>,
    /// Whether parts of /proc are masked.
    pub proc_mount: Option<String>,
    /// A label.
    pub se_linux_options: Option<SeLinuxOptions>,
    /// A profile.
    pub app_armor_profile: Option<SecurityProfile>,
    /// A filter of system calls.
    pub seccomp_profile: Option<SecurityProfile>,
}

/// `capabilities`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct Capabilities {
    /// Those it gets.
    pub add: Vec<String>,
    /// Those it loses.
    pub drop: Vec<String>,
}

/// `appArmorProfile` and `seccompProfile`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct SecurityProfile {
    /// Which kind of profile.
    #[serde(rename = "type")]
    pub type_: String,
    /// One of the node's own.
    pub localhost_profile: Option<String>,
}
