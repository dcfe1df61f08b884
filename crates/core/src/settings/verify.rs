//! What a file must say after an edit, against what it says: the check behind every edit.

use std::collections::HashMap;

use super::amount;
use super::insert::Item;
use super::node::{Body, Form, Node, Sort};
use super::{Format, Value};

/// One change of the tree.
#[derive(Debug, Clone)]
pub(crate) struct Op {
    /// The way of positions to the value it changes.
    pub(crate) trail: Vec<usize>,
    pub(crate) act: Act,
}

#[derive(Debug, Clone)]
pub(crate) enum Act {
    /// Another value.
    Replace(Value),
    /// New entries; the first becomes number `at`.
    Add { at: usize, items: Vec<Item> },
    /// Entries out, by their positions (rising).
    Take(Vec<usize>),
}

/// What must stand at a place.
enum Want<'a> {
    Same(&'a Node),
    New(&'a Value),
    Many { form: Form, map: bool, entries: Vec<(Option<&'a str>, Want<'a>)> },
}

/// Whether `after` says what `before` says with the changes made.
pub(crate) fn holds(format: Format, before: (&Node, &str), after: (&Node, &str), ops: &[Op]) -> bool {
    let all: Vec<&Op> = ops.iter().collect();
    let want = expected(before.0, before.1, &all, 0);
    Check { format, old: before.1, new: after.1 }.fits(&want, after.0)
}

fn expected<'a>(node: &'a Node, text: &'a str, ops: &[&'a Op], depth: usize) -> Want<'a> {
    if ops.is_empty() {
        return Want::Same(node);
    }
    let here: Vec<&Op> = ops.iter().filter(|o| o.trail.len() == depth).copied().collect();
    for op in &here {
        if let Act::Replace(value) = &op.act {
            return Want::New(value);
        }
    }
    let mut entries: Vec<(usize, Option<&str>, Want<'a>)> = Vec::new();
    let (form, map);
    match &node.body {
        Body::Many(many) => {
            (form, map) = (many.form, many.map);
            let mut below: HashMap<usize, Vec<&Op>> = HashMap::new();
            for op in ops {
                if let Some(at) = op.trail.get(depth) {
                    below.entry(*at).or_default().push(op);
                }
            }
            for (at, entry) in many.entries.iter().enumerate() {
                let inner = below.get(&at).map_or(&[][..], Vec::as_slice);
                let want = expected(&entry.node, text, inner, depth + 1);
                entries.push((at, entry.key.as_ref().map(|k| k.text(text)), want));
            }
        }
        // a single value that becomes one of several, or an element's text beside its attributes
        Body::One(one) if one.sort != Sort::Nothing || node.span.of(text) == "/>" => {
            let keyed =
                here.iter().any(|o| matches!(&o.act, Act::Add { items, .. } if items.iter().any(|i| i.0.is_some())));
            (form, map) = (if keyed { Form::Element } else { Form::Again }, keyed);
            entries.push((0, keyed.then_some("@"), Want::Same(node)));
        }
        Body::One(_) => {
            form = Form::Block;
            map = here.iter().any(|o| matches!(&o.act, Act::Add { items, .. } if items.iter().any(|i| i.0.is_some())));
        }
    }
    let mut out: Vec<(Option<&str>, Want<'a>)> = Vec::new();
    let mut adds: Vec<(usize, &Vec<Item>)> = Vec::new();
    let mut gone: Vec<usize> = Vec::new();
    for op in here {
        match &op.act {
            Act::Add { at, items } => adds.push((*at, items)),
            Act::Take(all) => gone.extend(all),
            Act::Replace(_) => {}
        }
    }
    let count = entries.len();
    let put = |out: &mut Vec<(Option<&'a str>, Want<'a>)>, at: usize| {
        for (_, items) in adds.iter().filter(|(place, _)| *place == at || (at == count && *place > count)) {
            out.extend(items.iter().map(|(k, v)| (k.as_deref(), Want::New(v))));
        }
    };
    for (at, key, want) in entries {
        put(&mut out, at);
        let vanished = matches!(&want, Want::Many { form: Form::Again | Form::Dotted | Form::Implied, entries, .. } if entries.is_empty());
        if !gone.contains(&at) && !vanished {
            out.push((key, want));
        }
    }
    put(&mut out, count);
    Want::Many { form, map, entries: out }
}

struct Check<'a> {
    format: Format,
    old: &'a str,
    new: &'a str,
}

impl Check<'_> {
    /// Formats whose values have types of their own; in the others a value is what it looks like.
    fn typed(&self) -> bool {
        matches!(self.format, Format::Json | Format::Yaml | Format::Toml | Format::BraceTables)
    }

    fn fits(&self, want: &Want<'_>, node: &Node) -> bool {
        match want {
            Want::Same(old) => self.same(old, node),
            Want::New(value) => self.is(value, node),
            Want::Many { form: Form::Again, entries, .. } if entries.len() == 1 => {
                entries.first().is_some_and(|(_, w)| self.fits(w, node))
            }
            Want::Many { map, entries, .. } => {
                let keys: Vec<Option<&str>> = entries.iter().map(|(k, _)| *k).collect();
                let empty = |at: usize| match entries.get(at) {
                    Some((_, Want::Same(n))) => self.blank(n, self.old),
                    Some((_, Want::New(v))) => v.text().is_none_or(|t| t.is_empty()),
                    _ => false,
                };
                self.all(node, *map, &keys, &empty, |at, found| {
                    entries.get(at).is_some_and(|(_, w)| self.fits(w, found))
                })
            }
        }
    }

    fn blank(&self, node: &Node, text: &str) -> bool {
        node.as_one().is_some_and(|o| o.sort == Sort::Nothing) || node.text(text).is_some_and(|t| t.is_empty())
    }

    /// Whether a list or map holds entries of these keys, each as `fits` says. The order of keys is no matter.
    fn all(
        &self,
        node: &Node,
        map: bool,
        keys: &[Option<&str>],
        empty: &dyn Fn(usize) -> bool,
        fits: impl Fn(usize, &Node) -> bool,
    ) -> bool {
        // an element's own text that is empty counts for nothing
        let own = |k: Option<&str>| self.format == Format::Xml && k == Some("@");
        let wanted: Vec<usize> = (0..keys.len()).filter(|at| !(own(keys[*at]) && empty(*at))).collect();
        let found: Vec<_> = node
            .entries()
            .iter()
            .filter(|e| !(own(e.key.as_ref().map(|k| k.text(self.new))) && self.blank(&e.node, self.new)))
            .collect();
        if wanted.is_empty() && found.is_empty() {
            return node.as_many().is_some() || self.blank(node, self.new);
        }
        let Some(many) = node.as_many() else { return false };
        if wanted.len() != found.len() || (many.map != map && keys.iter().any(Option::is_some)) {
            return false;
        }
        // mostly all stands in its order; only where it does not, keys are looked up
        let mut rest: Option<HashMap<&str, &Node>> = None;
        let mut bare = found.iter().filter(|e| e.key.is_none());
        for (place, at) in wanted.into_iter().enumerate() {
            let key = keys.get(at).copied().flatten();
            let fitting = match (key, &rest) {
                (None, _) => bare.next().map(|e| &e.node),
                (Some(key), None) if found.get(place).is_some_and(|e| e.is(self.new, key)) => {
                    found.get(place).map(|e| &e.node)
                }
                (Some(key), _) => {
                    let all = rest.get_or_insert_with(|| {
                        let keyed = found.iter().filter_map(|e| Some((e.key.as_ref()?.text(self.new), &e.node)));
                        keyed.collect()
                    });
                    if all.len() + found.iter().filter(|e| e.key.is_none()).count() != found.len() {
                        return false;
                    }
                    all.get(key).copied()
                }
            };
            if !fitting.is_some_and(|n| fits(at, n)) {
                return false;
            }
        }
        true
    }

    fn same(&self, old: &Node, new: &Node) -> bool {
        match (&old.body, &new.body) {
            (Body::One(a), Body::One(b)) => {
                a.sort == b.sort && old.shut == new.shut && old.text(self.old) == new.text(self.new)
            }
            (Body::Many(a), Body::Many(b)) => {
                a.map == b.map
                    && a.entries.len() == b.entries.len()
                    && a.entries.iter().zip(&b.entries).all(|(x, y)| {
                        x.key.as_ref().map(|k| k.text(self.old)) == y.key.as_ref().map(|k| k.text(self.new))
                            && self.same(&x.node, &y.node)
                    })
            }
            _ => false,
        }
    }

    fn is(&self, value: &Value, node: &Node) -> bool {
        match (value, &node.body) {
            (Value::Map(pairs), Body::Many(_)) => {
                let keys: Vec<Option<&str>> = pairs.iter().map(|(k, _)| Some(k.as_str())).collect();
                let empty = |at: usize| pairs.get(at).is_some_and(|(_, v)| v.text().is_none_or(|t| t.is_empty()));
                self.all(node, true, &keys, &empty, |at, found| pairs.get(at).is_some_and(|(_, v)| self.is(v, found)))
            }
            (Value::List(items), Body::Many(many)) => {
                !many.map
                    && items.len() == many.entries.len()
                    && items.iter().zip(&many.entries).all(|(v, e)| self.is(v, &e.node))
                    || items.is_empty() && many.entries.is_empty()
            }
            // one entry of a key that may stand several times
            (Value::List(items), Body::One(_)) => {
                let blank = items.is_empty() && self.blank(node, self.new);
                blank || items.len() == 1 && !self.typed() && items.first().is_some_and(|v| self.is(v, node))
            }
            (Value::Map(pairs), Body::One(_)) => match pairs.as_slice() {
                [] => self.blank(node, self.new),
                [(key, value)] if key == "@" => self.is(value, node),
                _ => false,
            },
            (Value::Text(words), Body::Many(many)) if many.form == Form::Row => node.span.of(self.new) == words,
            (one, Body::Many(_)) => one.sort() == Some(Sort::Nothing) && node.entries().is_empty(),
            (one, Body::One(found)) => {
                let there = node.text(self.new).unwrap_or_default();
                let wanted = one.text().unwrap_or_default();
                if !self.typed() {
                    return there == wanted;
                }
                let sorts = one.sort() == Some(found.sort);
                match one {
                    Value::Null => found.sort == Sort::Nothing,
                    Value::Bool(_) => sorts && there.eq_ignore_ascii_case(&wanted),
                    Value::Number(n) => sorts && amount::equal(n, &there),
                    _ => sorts && there == wanted,
                }
            }
        }
    }
}
