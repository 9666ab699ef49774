//! configMap, secret, downwardAPI and projected volumes.

use mivask_core::fact::{Fact, Provenance};
use mivask_core::mode::Mode;
use mivask_core::scene::{ApiItem, ApiKind, ApiSource, ApiVolume};

use super::Origin;
use super::api::{DownwardApiFile, KeyToPath, Volume, VolumeProjection};
use crate::diagnostic::{Diagnostics, Severity};

/// The volume, if it is one of these; `origin` is at it.
pub(super) fn read(volume: &Volume, origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Option<ApiVolume> {
    let at = |key: &str| origin.at(key);
    let (kind, asked, sources) = if let Some(map) = &volume.config_map {
        let here = at("configMap");
        let name = here.fact("name", "volumes.configMap.name", map.name.clone());
        let items = map.items.as_deref().map(|items| keys(items, &here, diagnostics));
        let optional = map.optional == Some(true);
        let source = ApiSource::Object { secret: false, name, items, optional };
        (ApiKind::ConfigMap, map.default_mode, vec![source])
    } else if let Some(secret) = &volume.secret {
        let here = at("secret");
        let name = secret.secret_name.clone().unwrap_or_default();
        let name = here.fact("secretName", "volumes.secret.secretName", name);
        let items = secret.items.as_deref().map(|items| keys(items, &here, diagnostics));
        let optional = secret.optional == Some(true);
        let source = ApiSource::Object { secret: true, name, items, optional };
        (ApiKind::Secret, secret.default_mode, vec![source])
    } else if let Some(downward) = &volume.downward_api {
        let files = fields(&downward.items, &at("downwardAPI"), diagnostics);
        (ApiKind::DownwardApi, downward.default_mode, vec![ApiSource::Files(files)])
    } else if let Some(projected) = &volume.projected {
        let list = at("projected.sources");
        let sources = projected.sources.iter().enumerate();
        let sources =
            sources.flat_map(|(index, source)| projection(source, &list.item(index), diagnostics)).collect();
        (ApiKind::Projected, projected.default_mode, sources)
    } else {
        return None;
    };
    let key = format!("{}.defaultMode", kind.word());
    let default_mode = match asked {
        Some(number) => {
            let field = format!("volumes.{key}");
            Fact::new(mode(number, &key, origin, diagnostics), origin.place(&key, &field))
        }
        None => Fact::new(Mode::new(0o644), Provenance::rule("defaultMode is 0644 where it is left out")),
    };
    Some(ApiVolume { kind, default_mode, sources })
}

fn projection(
    source: &VolumeProjection,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Vec<ApiSource> {
    let mut all = Vec::new();
    if let Some(map) = &source.config_map {
        let here = origin.at("configMap");
        all.push(ApiSource::Object {
            secret: false,
            name: here.fact("name", "projected.configMap.name", map.name.clone()),
            items: map.items.as_deref().map(|items| keys(items, &here, diagnostics)),
            optional: map.optional == Some(true),
        });
    }
    if let Some(secret) = &source.secret {
        let here = origin.at("secret");
        all.push(ApiSource::Object {
            secret: true,
            name: here.fact("name", "projected.secret.name", secret.name.clone()),
            items: secret.items.as_deref().map(|items| keys(items, &here, diagnostics)),
            optional: secret.optional == Some(true),
        });
    }
    if let Some(downward) = &source.downward_api {
        all.push(ApiSource::Files(fields(&downward.items, &origin.at("downwardAPI"), diagnostics)));
    }
    let plain = |path: &str, key: &str| ApiItem {
        key: String::new(),
        path: origin.fact(&format!("{key}.path"), &format!("projected.{key}.path"), path.to_owned()),
        mode: None,
    };
    if let Some(token) = &source.service_account_token {
        all.push(ApiSource::Token(plain(&token.path, "serviceAccountToken")));
    }
    if let Some(bundle) = &source.cluster_trust_bundle {
        all.push(ApiSource::Files(vec![plain(&bundle.path, "clusterTrustBundle")]));
    }
    if let Some(pod) = &source.pod_certificate {
        let paths = [&pod.credential_bundle_path, &pod.key_path, &pod.certificate_chain_path];
        let files = paths.into_iter().flatten().map(|path| plain(path, "podCertificate")).collect();
        all.push(ApiSource::Files(files));
    }
    all
}

fn keys(items: &[KeyToPath], origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Vec<ApiItem> {
    let list = origin.at("items");
    let read = |(index, item): (usize, &KeyToPath)| {
        let at = list.item(index);
        file(&item.key, &item.path, item.mode, &at, diagnostics)
    };
    items.iter().enumerate().filter_map(read).collect()
}

fn fields(items: &[DownwardApiFile], origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Vec<ApiItem> {
    let list = origin.at("items");
    let read = |(index, item): (usize, &DownwardApiFile)| {
        file("", &item.path, item.mode, &list.item(index), diagnostics)
    };
    items.iter().enumerate().filter_map(read).collect()
}

fn file(
    key: &str,
    path: &str,
    asked: Option<i32>,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Option<ApiItem> {
    let first = path.split('/').next().unwrap_or_default();
    if path.is_empty()
        || path.starts_with('/')
        || first.starts_with("..")
        || path.split('/').any(|part| part == "..")
    {
        let message = format!(
            "the API refuses the path `{path}`: it must stay inside the volume and not begin with `..`"
        );
        origin.diagnostic(Severity::Error, "path", message, None, diagnostics);
        return None;
    }
    Some(ApiItem {
        key: key.to_owned(),
        path: origin.fact("path", "items.path", path.to_owned()),
        mode: asked.map(|number| {
            Fact::new(mode(number, "mode", origin, diagnostics), origin.place("mode", "items.mode"))
        }),
    })
}

/// Modes that people mean.
const USUAL: [u16; 23] = [
    0o400, 0o440, 0o444, 0o500, 0o550, 0o555, 0o600, 0o640, 0o644, 0o660, 0o664, 0o666, 0o700, 0o711, 0o740,
    0o744, 0o750, 0o755, 0o760, 0o770, 0o771, 0o775, 0o777,
];

/// A mode as the API takes it; one whose decimal digits look like octal ones is pointed at.
fn mode(number: i32, key: &str, origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Mode {
    let written = origin.at(key).node.text().unwrap_or_default();
    let meant = u16::from_str_radix(written, 8).ok().filter(|meant| USUAL.contains(meant));
    let Some(bits) = u16::try_from(number).ok().filter(|bits| *bits <= 0o777) else {
        let message = format!("the API refuses mode {number}: it takes 0 to 0777 (511)");
        let help = meant.map(|meant| format!("write 0{meant:o} (or {meant}) if you mean 0{meant:o}"));
        origin.diagnostic(Severity::Error, key, message, help, diagnostics);
        return Mode::new(0);
    };
    let decimal = !written.starts_with('0') && written.parse() == Ok(number);
    if let (Some(meant), true, false) = (meant, decimal, USUAL.contains(&bits)) {
        let message = format!("{key} {written} is a decimal number here: the mode is 0{bits:o}");
        let help = format!("write 0{meant:o} (or {meant}) if you mean 0{meant:o}");
        origin.diagnostic(Severity::Warning, key, message, Some(help), diagnostics);
    }
    Mode::new(bits)
}
