//! From edits to changes of the tree.

use super::*;

impl Document {
    /// The changes of the tree that an edit means; none where all is so already.
    pub(super) fn ops(&self, edit: &Edit) -> Result<Vec<Op>, EditError> {
        match edit {
            Edit::Set { path, value, force } => match self.found(path)? {
                Found::Hits(hits) => {
                    let mut out = Vec::new();
                    for hit in hits {
                        let Some(node) = self.root.follow(&hit.trail) else { continue };
                        let value = self.coerced(&hit.path, node, value, *force)?;
                        let there = Value::of(node, &self.source.text);
                        let sorts = force.is_none() || there.sort() == value.sort();
                        if there.same(&value) && sorts {
                            continue;
                        }
                        self.open(&hit)?;
                        out.extend(self.replacing(&hit, node, value));
                    }
                    Ok(out)
                }
                Found::Short { trail, path: here, left } => {
                    let value = match force {
                        Some(sort) => forced(value, *sort),
                        None => value.clone(),
                    };
                    let given = value.clone();
                    self.made(path, trail, &here, &left, given).map(|op| vec![op])
                }
            },
            Edit::Add { path, values, seat } => self.adding(path, values, seat),
            Edit::Drop { path, values } => {
                let hits = self.hits(path)?;
                let mut out = Vec::new();
                for hit in hits {
                    let Some(node) = self.root.follow(&hit.trail) else { continue };
                    let is = |n: &Node| values.iter().any(|v| self.is_element(n, v));
                    if node.as_many().is_none() {
                        // the only one of a key that may stand several times
                        if self.repeats() {
                            if is(node) {
                                self.open(&hit)?;
                                out.extend(removal(&hit.trail));
                            }
                            continue;
                        }
                        return Err(unclear(&hit.path, "a single value stands there, no list"));
                    }
                    let gone: Vec<usize> =
                        node.entries().iter().enumerate().filter(|(_, e)| is(&e.node)).map(|(at, _)| at).collect();
                    if !gone.is_empty() {
                        self.open(&hit)?;
                        out.push(Op { trail: hit.trail, act: Act::Take(gone) });
                    }
                }
                Ok(out)
            }
            Edit::Remove { path } => match self.found(path)? {
                Found::Short { .. } => Ok(Vec::new()),
                Found::Hits(hits) => {
                    let mut out: Vec<Op> = Vec::new();
                    for hit in hits {
                        self.open(&hit)?;
                        let Some(op) = removal(&hit.trail) else {
                            return Err(unclear(&hit.path, "the whole file cannot be taken out of itself"));
                        };
                        match (out.iter_mut().find(|o| o.trail == op.trail), &op.act) {
                            (Some(Op { act: Act::Take(all), .. }), Act::Take(more)) => all.extend(more),
                            _ => out.push(op),
                        }
                    }
                    Ok(out)
                }
            },
        }
    }

    pub(crate) fn found(&self, path: &Path) -> Result<Found, EditError> {
        select(&self.root, &self.source.text, path, is_flat(self.format)).map_err(|why| unclear(path, why))
    }

    /// The values a path means; at least one.
    pub(crate) fn hits(&self, path: &Path) -> Result<Vec<Hit>, EditError> {
        match self.found(path)? {
            Found::Hits(hits) => Ok(hits),
            Found::Short { trail, path: here, left } => {
                let flat = is_flat(self.format);
                let hint = hint(&self.root, &self.source.text, &trail, &here, &left, flat);
                Err(EditError::NoSuch { path: path.to_string(), hint })
            }
        }
    }

    pub(super) fn line_of(&self, at: usize) -> usize {
        line_column(&self.source.text, at).0
    }

    /// Whether nothing on the way to a value is left alone.
    pub(crate) fn open(&self, hit: &Hit) -> Result<(), EditError> {
        for end in 0..=hit.trail.len() {
            let node = hit.trail.get(..end).and_then(|t| self.root.follow(t));
            if let Some(Node { shut: Some(shut), span, .. }) = node {
                let tagged_around = *shut == Shut::Tagged && end < hit.trail.len();
                if !tagged_around {
                    let path = hit.path.to_string();
                    return Err(EditError::Shut { path, line: self.line_of(span.start()), why: shut.why() });
                }
            }
        }
        Ok(())
    }

    /// Formats in which a key may stand several times.
    pub(super) fn repeats(&self) -> bool {
        matches!(self.format, Format::Ini | Format::NameValue | Format::Blocks | Format::Xml)
    }

    pub(super) fn is_element(&self, node: &Node, value: &Value) -> bool {
        let there = Value::of(node, &self.source.text);
        let row = node.as_many().is_some_and(|m| m.form == Form::Row);
        super::super::alike(&there, value) || row && value.text().as_deref() == Some(node.span.of(&self.source.text))
    }

    /// A list's new value as the fewest changes; anything else as a whole.
    pub(super) fn replacing(&self, hit: &Hit, node: &Node, value: Value) -> Vec<Op> {
        let (Some(many), Value::List(wanted)) = (node.as_many(), &value) else {
            return vec![Op { trail: hit.trail.clone(), act: Act::Replace(value) }];
        };
        let there: Vec<Value> = many.entries.iter().map(|e| Value::of(&e.node, &self.source.text)).collect();
        let gone: Vec<usize> =
            (0..there.len()).filter(|at| !wanted.iter().any(|w| there.get(*at).is_some_and(|t| t.same(w)))).collect();
        let kept: Vec<&Value> = there.iter().enumerate().filter(|(at, _)| !gone.contains(at)).map(|(_, v)| v).collect();
        // what is kept stands in the same order, and what is new in one piece: lines around stay as they are
        let first_new = wanted.iter().position(|w| !kept.iter().any(|k| k.same(w)));
        let news = wanted.iter().filter(|w| !kept.iter().any(|k| k.same(w))).count();
        let block: Vec<Item> =
            first_new.map_or(Vec::new(), |at| wanted.iter().skip(at).take(news).map(|v| (None, v.clone())).collect());
        let mut result: Vec<&Value> = kept.clone();
        let at = first_new.unwrap_or(result.len()).min(result.len());
        result.splice(at..at, block.iter().map(|(_, v)| v));
        let ordered = result.len() == wanted.len() && result.iter().zip(wanted).all(|(a, b)| a.same(b));
        if !ordered || many.map {
            // the same number of single values: each in its place
            if there.len() == wanted.len() && there.iter().chain(wanted).all(|v| v.sort().is_some()) {
                let pairs = there.iter().zip(wanted).enumerate().filter(|(_, (a, b))| !a.same(b));
                return pairs
                    .map(|(at, (_, new))| {
                        let trail = hit.trail.iter().copied().chain([at]).collect();
                        Op { trail, act: Act::Replace(new.clone()) }
                    })
                    .collect();
            }
            return vec![Op { trail: hit.trail.clone(), act: Act::Replace(value) }];
        }
        if gone.is_empty() {
            return vec![Op { trail: hit.trail.clone(), act: Act::Add { at, items: block } }];
        }
        if block.is_empty() {
            return vec![Op { trail: hit.trail.clone(), act: Act::Take(gone) }];
        }
        if many.form == Form::Bracket {
            return vec![Op { trail: hit.trail.clone(), act: Act::Replace(value) }];
        }
        // as many go as come: each takes a place that is left
        if gone.len() == block.len() {
            let places = gone.iter().zip(&block);
            return places
                .map(|(at, (_, v))| {
                    let trail = hit.trail.iter().copied().chain([*at]).collect();
                    Op { trail, act: Act::Replace(v.clone()) }
                })
                .collect();
        }
        vec![Op { trail: hit.trail.clone(), act: Act::Replace(value) }]
    }

    /// The value as the sort that stands there.
    pub(super) fn coerced(
        &self,
        path: &Path,
        node: &Node,
        value: &Value,
        force: Option<Sort>,
    ) -> Result<Value, EditError> {
        if let Some(sort) = force {
            return Ok(forced(value, sort));
        }
        let there = match &node.body {
            Body::One(one) => one.sort,
            Body::Many(many) => {
                if many.form == Form::Again && value.sort().is_some() {
                    let why = format!("it stands {} times; choose one with [1], or use += and -=", many.entries.len());
                    return Err(unclear(path, why));
                }
                let fits = matches!((value, many.map), (Value::Map(_), true) | (Value::List(_), false))
                    || many.entries.is_empty() && value.sort().is_none();
                if fits {
                    return Ok(value.clone());
                }
                let there = if many.map { "a table of values" } else { "a list" };
                return Err(self.other_sort(path, node, there, value));
            }
        };
        let given = match value.sort() {
            Some(sort) => sort,
            None if there == Sort::Nothing => return Ok(value.clone()),
            None => return Err(self.other_sort(path, node, there.word(), value)),
        };
        let words = node.text(&self.source.text).unwrap_or_default();
        let typed = matches!(self.format, Format::Json | Format::Yaml | Format::Toml | Format::BraceTables);
        match (there, given) {
            (Sort::Nothing, _) => Ok(value.clone()),
            (a, b) if a == b => {
                let whole = |t: &str| !t.contains(['.', 'e', 'E']);
                if let (Format::Toml, Sort::Number, Value::Number(n)) = (self.format, a, value)
                    && whole(&words)
                    && !whole(n)
                {
                    return Err(self.other_sort(path, node, "a whole number", value));
                }
                Ok(value.clone())
            }
            // words for yes and no, as older files have them
            (Sort::Text, Sort::Flag) if self.format == Format::Yaml || !typed => Ok(Value::Text(
                switch(&words, *value == Value::Bool(true)).unwrap_or_else(|| value.text().unwrap_or_default()),
            )),
            (Sort::Text, Sort::Nothing) => Ok(Value::Text("null".to_owned())),
            (Sort::Text, _) => Ok(Value::Text(value.text().unwrap_or_default())),
            (Sort::Number, Sort::Text) if !typed && words.is_empty() => Ok(value.clone()),
            (there, _) => Err(self.other_sort(path, node, there.word(), value)),
        }
    }

    pub(super) fn other_sort(&self, path: &Path, node: &Node, there: &str, value: &Value) -> EditError {
        let what = match value {
            Value::List(_) => "a list",
            Value::Map(_) => "a table of values",
            Value::Number(n) if there == "a whole number" && n.contains(['.', 'e', 'E']) => "none",
            one => one.sort().map_or("something else", |s| if s == Sort::Number { "a number" } else { s.word() }),
        };
        EditError::OtherSort {
            path: path.to_string(),
            line: self.line_of(node.span.start()),
            there: there.to_owned(),
            given: clean(&value.shown(), 60),
            what,
        }
    }

    /// What is made where a path goes on and the file does not.
    pub(super) fn made(
        &self,
        whole: &Path,
        trail: Vec<usize>,
        here: &Path,
        left: &[Step],
        value: Value,
    ) -> Result<Op, EditError> {
        let missing = || {
            let hint = hint(&self.root, &self.source.text, &trail, here, left, is_flat(self.format));
            EditError::NoSuch { path: whole.to_string(), hint }
        };
        let mut keys = Vec::new();
        for step in left {
            let Step::Key(key) = step else { return Err(missing()) };
            keys.push(key.clone());
        }
        let node = self.root.follow(&trail).ok_or_else(missing)?;
        self.open(&Hit { trail: trail.clone(), path: here.clone() })?;
        let takes_keys = match &node.body {
            Body::Many(many) => many.map || many.entries.is_empty() && self.format != Format::Lines,
            Body::One(one) => {
                one.sort == Sort::Nothing
                    || self.format == Format::Xml && keys.first().is_some_and(|k| k.starts_with('@'))
            }
        };
        if !takes_keys {
            return Err(missing());
        }
        let mut inner = value;
        for key in keys.iter().skip(1).rev() {
            inner = Value::Map(vec![(key.clone(), inner)]);
        }
        let at = node.entries().len();
        Ok(Op { trail, act: Act::Add { at, items: vec![(keys.first().cloned(), inner)] } })
    }

    pub(super) fn adding(&self, path: &Path, values: &[Value], seat: &Seat) -> Result<Vec<Op>, EditError> {
        let found = match self.found(path)? {
            Found::Hits(hits) => hits,
            Found::Short { trail, path: here, left } => {
                let value = match (values, self.repeats()) {
                    ([one], true) => one.clone(),
                    _ => Value::List(values.to_vec()),
                };
                return self.made(path, trail, &here, &left, value).map(|op| vec![op]);
            }
        };
        let mut out = Vec::new();
        for hit in found {
            let Some(node) = self.root.follow(&hit.trail) else { continue };
            let entries = node.entries();
            if let Body::Many(many) = &node.body
                && many.map
                && !many.entries.is_empty()
            {
                out.extend(self.keys_added(&hit, node, values)?);
                continue;
            }
            let single = node.as_one().filter(|o| o.sort != Sort::Nothing);
            if single.is_some() && !self.repeats() {
                return Err(unclear(
                    &hit.path,
                    "a single value stands there, no list; where it is one, say what parts it (--between \", \")",
                ));
            }
            let missing: Vec<Item> = values
                .iter()
                .filter(|v| {
                    !(entries.iter().any(|e| self.is_element(&e.node, v))
                        || single.is_some() && self.is_element(node, v))
                })
                .map(|v| (None, v.clone()))
                .collect();
            if missing.is_empty() {
                continue;
            }
            self.open(&hit)?;
            if let ([], Body::Many(many), Value::Map(_)) =
                (entries, &node.body, &missing.first().map_or(Value::Null, |m| m.1.clone()))
                && many.map
            {
                out.extend(self.keys_added(&hit, node, values)?);
                continue;
            }
            let place = |name: &str| {
                let value = Value::Text(name.to_owned());
                entries.iter().position(|e| self.is_element(&e.node, &value)).ok_or_else(|| {
                    unclear(&hit.path, format!("no element `{}` stands there to go by", clean(name, 60)))
                })
            };
            let at = match seat {
                Seat::First => 0,
                Seat::Last => entries.len(),
                Seat::Before(name) => place(name)?,
                Seat::After(name) => place(name)? + 1,
            };
            out.push(Op {
                trail: hit.trail,
                act: Act::Add { at: if single.is_some() { 1 } else { at }, items: missing },
            });
        }
        Ok(out)
    }

    pub(super) fn keys_added(&self, hit: &Hit, node: &Node, values: &[Value]) -> Result<Vec<Op>, EditError> {
        let mut items: Vec<Item> = Vec::new();
        for value in values {
            let Value::Map(pairs) = value else {
                return Err(unclear(
                    &hit.path,
                    "keys stand there, no list; set one of them, or add a table: {\"key\": 1}",
                ));
            };
            for (key, value) in pairs {
                match node.entries().iter().find(|e| e.is(&self.source.text, key)) {
                    Some(entry) if Value::of(&entry.node, &self.source.text).same(value) => {}
                    Some(_) => {
                        return Err(unclear(
                            &hit.path.key(key),
                            "it stands there already, with another value; set it with =",
                        ));
                    }
                    None => items.push((Some(key.clone()), value.clone())),
                }
            }
        }
        if items.is_empty() {
            return Ok(Vec::new());
        }
        self.open(hit)?;
        Ok(vec![Op { trail: hit.trail.clone(), act: Act::Add { at: node.entries().len(), items } }])
    }
}

pub(super) fn unclear(path: &Path, why: impl Into<String>) -> EditError {
    EditError::Unclear { path: path.to_string(), why: why.into() }
}

pub(crate) fn removal(trail: &[usize]) -> Option<Op> {
    let (last, rest) = trail.split_last()?;
    Some(Op { trail: rest.to_vec(), act: Act::Take(vec![*last]) })
}

pub(super) fn forced(value: &Value, sort: Sort) -> Value {
    let Some(words) = value.text() else { return value.clone() };
    match sort {
        Sort::Text => Value::Text(words),
        Sort::Number => Value::Number(words),
        Sort::Flag => Value::Bool(matches!(&*words.to_ascii_lowercase(), "true" | "yes" | "on" | "1")),
        Sort::Nothing => Value::Null,
    }
}

/// `yes` for true where `no` stands, `Off` for false where `On` stands; `None` where neither stands.
pub(super) fn switch(there: &str, on: bool) -> Option<String> {
    let pairs = [("yes", "no"), ("on", "off")];
    let (yes, no) = pairs.iter().find(|(y, n)| there.eq_ignore_ascii_case(y) || there.eq_ignore_ascii_case(n))?;
    let word = if on { yes } else { no };
    Some(if there.chars().all(|c| c.is_ascii_uppercase()) {
        word.to_uppercase()
    } else if there.starts_with(|c: char| c.is_ascii_uppercase()) {
        word.get(..1).unwrap_or("").to_uppercase() + word.get(1..).unwrap_or("")
    } else {
        (*word).to_owned()
    })
}
