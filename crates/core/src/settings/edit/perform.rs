//! From changes of the tree to splices, and the check behind them.

use super::*;

impl Document {
    /// Makes changes of the tree in the text, and reads it again to see that it says what was meant.
    pub(crate) fn perform(&mut self, ops: &[Op], path: &Path, kept: &mut Kept) -> Result<(), EditError> {
        if ops.is_empty() {
            return Ok(());
        }
        let text = &self.source.text;
        let mut splices = Vec::new();
        let cannot = |why: String| EditError::Cannot { path: path.to_string(), why };
        for op in ops {
            let place = Place { format: self.format, text, root: &self.root, trail: &op.trail };
            splices.extend(match &op.act {
                Act::Replace(value) => replace(&place, value).map_err(cannot)?,
                Act::Add { at, items } => add(&place, *at, items).map_err(cannot)?,
                Act::Take(gone) => take(&place, gone).map_err(cannot)?,
            });
        }
        let splices = joined(splices);
        let line = self.line_of(splices.first().map_or(0, |s| s.start));
        let doubt = || EditError::Doubt { path: path.to_string(), line };
        let after = spliced(text, &splices).ok_or_else(doubt)?;
        let root = super::super::document::tree(self.format, &after, &self.patterns).map_err(|_| doubt())?;
        self.source.check(&after)?;
        if !self.source.is_plain(&after) || !holds(self.format, (&self.root, text), (&root, &after), ops) {
            return Err(doubt());
        }
        let text = std::mem::replace(&mut self.source.text, after);
        let root = std::mem::replace(&mut self.root, root);
        // what stood before the first change, in case a later one cannot be made
        kept.get_or_insert((text, root));
        Ok(())
    }
}

fn replace(place: &Place<'_>, value: &Value) -> Result<Vec<Splice>, String> {
    let Some(node) = place.node() else { return Ok(Vec::new()) };
    let (start, end) = (node.span.start(), node.span.end());
    match &node.body {
        Body::One(_)
            if *value == Value::Null && matches!(place.format, Format::Ini | Format::NameValue | Format::Blocks) =>
        {
            // a key without a value has no sign either
            let key = place.entry().and_then(|e| e.key.as_ref()).map_or(start, |k| k.span.end());
            Ok(vec![Splice::cut(key, end)])
        }
        Body::One(_) => {
            let mut written = write::instead(place.format, place.text, node, value, place.in_brackets())?;
            let before = place.text.get(..start).unwrap_or("");
            // a key without a value gets its sign, or the space behind it
            let bare = start == end;
            if bare && !written.is_empty() {
                let spaced = match place.format {
                    Format::Yaml => before.ends_with([':', '-']),
                    Format::NameValue => !before.ends_with([' ', '\t']),
                    _ => false,
                };
                let key_end = place.entry().and_then(|e| e.key.as_ref()).map(|k| k.span.end());
                let no_sign = matches!(place.format, Format::Ini | Format::Blocks) && key_end == Some(start);
                if no_sign {
                    written = format!(" = {written}");
                } else if spaced {
                    written = format!(" {written}");
                }
            }
            Ok(vec![Splice::new(start, end, written)])
        }
        Body::Many(many) => match many.form {
            Form::Bracket => Ok(vec![Splice::new(start, end, write::flow(place.format, value))]),
            Form::Block => {
                let Some(key) = place.entry().and_then(|e| e.key.as_ref()) else {
                    return Err("a list or table in a list is replaced by hand".to_owned());
                };
                let colon = place.text.get(key.span.end()..).and_then(|t| t.find(':')).unwrap_or(0);
                let text = place.text.get(..end).unwrap_or("");
                let end = if text.ends_with('\n') { end - 1 } else { end };
                let written = match value {
                    // a key that had nothing before it had its entries
                    Value::Null => String::new(),
                    value => format!(" {}", write::fresh(Format::Yaml, value, false)?),
                };
                Ok(vec![Splice::new(key.span.end() + colon + 1, end, written)])
            }
            _ => Err("several values stand there; set them one by one, or use += and -=".to_owned()),
        },
    }
}

/// The text with pieces of it replaced; `None` where two of them are about the same bytes.
pub(crate) fn spliced(text: &str, splices: &[Splice]) -> Option<String> {
    let grown: usize = splices.iter().map(|s| s.with.len()).sum();
    let mut out = String::with_capacity(text.len() + grown);
    let mut at = 0;
    for splice in splices {
        out.push_str(text.get(at..splice.start)?);
        out.push_str(&splice.with);
        at = splice.end;
    }
    out.push_str(text.get(at..)?);
    Some(out)
}
