//! Files that a bundle's own list sends to their places, and what its install script would fetch: nothing of a bundle is
//! ever run, and neither list may name a place that the family does not allow.

use regex_lite::Regex;

use super::{Look, ManifestError, Member, Reader, Reading};
use crate::family::Kind;
use crate::id::{Digest, storable};
use crate::settings::Value;
use crate::text::{a, clean, glob};

/// So many files may a list name.
const MOST_SENT: usize = 200_000;

/// A file that a list sends to its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sent {
    /// Where its bytes come from.
    pub from: From,
    /// Its place, below the server's folder.
    pub to: String,
    /// Whether it is the administrator's once it is there.
    pub once: bool,
}

/// Where the bytes of a file that is sent come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum From {
    /// A file of the item, by its path in it.
    Inside(String),
    /// What a link gives, which must have this digest.
    Link(String, Digest),
}

/// Returns everything that the lists of an item send to places.
///
/// # Errors
/// [`ManifestError::Unreadable`]: a file that is not there, a place that is not allowed, a link without a digest.
pub(super) fn sent(
    kind: &Kind,
    look: &Look,
    folder: &str,
    members: &[Member],
    manifest: Option<&(Reading, String)>,
    read: &Reader<'_>,
) -> Result<Vec<Sent>, ManifestError> {
    let mut out = Vec::new();
    let refuse = |inside: &str, why: String| ManifestError::Unreadable {
        name: clean(&look.name, 80),
        inside: clean(inside, 120),
        why,
    };
    let place = |inside: &str, from: &str, to: &str, within: &[String]| {
        let any = within.iter().any(|w| glob(w, to));
        // whatever the family allows: no other root, and no hidden folder such as that of our own state
        let plain = !to.contains(':') && !to.split(['/', '\\']).any(|part| part.starts_with('.'));
        if storable(to).is_ok() && plain && any {
            return Ok(());
        }
        let why = format!(
            "sends `{}` to `{}`, where files of {} do not go",
            clean(from, 120),
            clean(to, 120),
            a(&kind.title)
        );
        Err(refuse(inside, why))
    };
    let once = |patterns: &[String], to: &str| patterns.iter().any(|p| glob(p, to));
    if let (Some(rule), Some((reading, inside))) = (&kind.bring, manifest) {
        let there: std::collections::HashSet<&str> =
            members.iter().filter_map(|m| m.path.strip_prefix(folder)).collect();
        let list = match reading.at(&rule.at) {
            None => Vec::new(),
            Some(Value::Map(pairs)) => pairs,
            Some(_) => return Err(refuse(inside, format!("has a `{}` that is no map of files to places", rule.at))),
        };
        few(list.len()).map_err(|why| refuse(inside, why))?;
        for (from, to) in list.into_iter().map(|(from, to)| (from, to.text().unwrap_or_default())) {
            place(inside, &from, &to, &rule.within)?;
            if !there.contains(from.as_str()) {
                let why = format!("names `{}`, which is not in it; it may be cut: fetch it again", clean(&from, 120));
                return Err(refuse(inside, why));
            }
            out.push(Sent { once: once(&rule.once, &to), from: From::Inside(from), to });
        }
    }
    if let Some(rule) = &kind.fetch {
        let file =
            members.iter().find_map(|m| Some((m, m.path.strip_prefix(folder)?)).filter(|(_, p)| rule.inside.fits(p)));
        let Some((member, inside)) = file else { return Ok(out) };
        let Some(bytes) = read(&member.path) else { return Err(refuse(inside, "cannot be read".to_owned())) };
        let told = match (&rule.pattern, rule.format) {
            (Some(pattern), _) => in_text(pattern, &bytes),
            (None, Some(format)) => {
                match Reading::of(format, &bytes).map_err(|why| refuse(inside, why))?.at(&rule.at) {
                    None => Vec::new(),
                    Some(Value::List(items)) => objects(&items, [&rule.link, &rule.sha256, &rule.to]),
                    Some(_) => return Err(refuse(inside, format!("has a `{}` that is no list", rule.at))),
                }
            }
            (None, None) => Vec::new(),
        };
        few(told.len()).map_err(|why| refuse(inside, why))?;
        if told.is_empty() && String::from_utf8_lossy(&bytes).contains("://") {
            let why = "speaks of addresses, but says nothing to fetch in a way that this family reads".to_owned();
            return Err(refuse(inside, why));
        }
        for [link, sha256, to] in told {
            place(inside, &link, &to, &rule.within)?;
            let shown = clean(&link, 160);
            if !link.starts_with("https://") && !link.starts_with("http://") {
                return Err(refuse(inside, format!("would fetch `{shown}`, which is no address on the web")));
            }
            let digest = Digest::parse(&sha256.to_lowercase()).map_err(|_| {
                refuse(inside, format!("would fetch `{shown}` without saying its sha256, so nobody could check it"))
            })?;
            out.push(Sent { once: once(&rule.once, &to), from: From::Link(link, digest), to });
        }
    }
    Ok(out)
}

/// Says so where a list names more files than any would.
fn few(count: usize) -> Result<(), String> {
    if count > MOST_SENT { Err(format!("sends more than {MOST_SENT} files to places")) } else { Ok(()) }
}

/// What a pattern finds in the lines of a text: link, digest, place.
fn in_text(pattern: &str, bytes: &[u8]) -> Vec<[String; 3]> {
    let Ok(pattern) = Regex::new(pattern) else { return Vec::new() };
    let text = String::from_utf8_lossy(bytes);
    let group =
        |found: &regex_lite::Captures<'_>, name| found.name(name).map_or_else(String::new, |m| m.as_str().to_owned());
    let lines = text.lines().filter_map(|line| pattern.captures(line));
    lines.map(|found| ["link", "sha256", "to"].map(|name| group(&found, name))).collect()
}

/// The same of a list of objects.
fn objects(items: &[Value], keys: [&String; 3]) -> Vec<[String; 3]> {
    let text = |item: &Value, key: &str| item.at(key).and_then(Value::text).unwrap_or_default();
    items.iter().map(|item| keys.map(|key| text(item, key))).collect()
}
