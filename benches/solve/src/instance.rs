//! The instances: items and versions as numbers, made from a seed.

/// An item's versions from one to another, both included; versions count from 1.
pub type Span = (usize, u32, u32);

/// Numbers that look random and are the same every time.
pub struct Dice(pub u64);

impl Dice {
    pub fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 33) as usize % sides.max(1)
    }
}

#[derive(Default, Clone)]
pub struct Version {
    /// Each need: one of these spans.
    pub needs: Vec<Vec<Span>>,
    /// What it cannot stand beside.
    pub apart: Vec<Span>,
    /// What it stands in for: ids behind the items' own.
    pub provides: Vec<usize>,
}

#[derive(Default)]
pub struct Instance {
    /// Versions of each item, the first one oldest.
    pub items: Vec<Vec<Version>>,
    pub wants: Vec<Span>,
}

pub const ALL: u32 = u32::MAX;

pub const NAMES: [&str; 10] = [
    "catalogue of 1000",
    "catalogue of 5000",
    "catalogue of 20000",
    "catalogue of 60000",
    "deep backtracking",
    "pigeon holes",
    "5000 versions",
    "wide diamond",
    "small core far away",
    "all newest clash",
];

pub fn named(name: &str) -> Instance {
    match name {
        "deep backtracking" => chain(150, 30),
        "pigeon holes" => pigeons(8),
        "5000 versions" => versions(5_000, 300),
        "wide diamond" => diamond(40, 40, 8),
        "small core far away" => far(20_000),
        "all newest clash" => newest(60, 40),
        other => catalogue(other.rsplit(' ').next().and_then(|n| n.parse().ok()).unwrap_or(1_000), 200),
    }
}

/// Items as they are in the registries of packages: most need little, a few are needed by thousands.
fn catalogue(items: usize, wants: usize) -> Instance {
    let mut dice = Dice(0x5EED_0001);
    let mut out = Instance::default();
    let count = |dice: &mut Dice| match dice.roll(10) {
        0..=5 => 1 + dice.roll(5),
        6..=8 => 4 + dice.roll(10),
        _ => 10 + dice.roll(30),
    };
    let counts: Vec<usize> = (0..items).map(|_| count(&mut dice)).collect();
    for item in 0..items {
        let mut versions = Vec::new();
        // what an item needs hardly changes from version to version
        let mut targets: Vec<usize> = Vec::new();
        let needs = [0, 0, 1, 1, 2, 2, 3, 3, 4, 5, 9][dice.roll(11)];
        for _ in 0..needs {
            // few are needed by many: the square favours the first
            let part = dice.roll(1_000) as f64 / 1_000.0;
            let target = (part * part * part * items as f64) as usize;
            if target != item {
                targets.push(target.min(items - 1));
            }
        }
        for number in 1..=counts[item] {
            let mut version = Version::default();
            for target in &targets {
                let have = counts[*target] as u32;
                // newer versions ask for newer ones
                let near = (have as usize * number / counts[item].max(1)).max(1) as u32;
                let span = match dice.roll(10) {
                    0..=4 => (*target, 1, ALL),
                    5..=7 => (*target, near.saturating_sub(1 + dice.roll(3) as u32).max(1), ALL),
                    8 => (*target, 1, near + 1),
                    _ => (*target, near.saturating_sub(2).max(1), near + 2),
                };
                let mut any = vec![span];
                if dice.roll(20) == 0 {
                    let other = dice.roll(items);
                    if other != item {
                        any.push((other, 1, ALL));
                    }
                }
                version.needs.push(any);
            }
            if dice.roll(60) == 0 {
                let other = dice.roll(items);
                if other != item {
                    version.apart.push((other, 1, 1 + dice.roll(3) as u32));
                }
            }
            if dice.roll(40) == 0 {
                version.provides.push(items + dice.roll(items / 50 + 1));
            }
            versions.push(version);
        }
        out.items.push(versions);
    }
    // some need what only others stand in for
    let offered: Vec<usize> = out.items.iter().flatten().flat_map(|v| v.provides.iter().copied()).collect();
    for _ in 0..items / 40 {
        let (item, virtual_id) = (dice.roll(items), offered[dice.roll(offered.len())]);
        out.items[item].iter_mut().for_each(|v| v.needs.push(vec![(virtual_id, 1, ALL)]));
    }
    out.wants = (0..wants).map(|_| (dice.roll(items), 1, ALL)).collect();
    out.wants.sort_unstable();
    out.wants.dedup();
    out
}

/// Every version needs the same version of the next; the last has only the oldest.
fn chain(depth: usize, versions: u32) -> Instance {
    let mut out = Instance::default();
    for item in 0..depth {
        let need = |v| if item + 1 < depth { vec![vec![(item + 1, v, v)]] } else { vec![vec![(depth, 1, 1)]] };
        let all = (1..=versions).map(|v| Version {
            needs: if item + 1 < depth || v == 1 { need(v) } else { vec![vec![(depth, 2, 2)]] },
            ..Version::default()
        });
        out.items.push(all.collect());
    }
    out.items.push(vec![Version::default()]);
    out.wants = vec![(0, 1, ALL)];
    out
}

/// One more than there are holes, none of them beside another in one hole.
fn pigeons(count: usize) -> Instance {
    let holes = count as u32 - 1;
    let mut out = Instance::default();
    for bird in 0..count {
        let beside = |hole| (0..count).filter(|o| *o != bird).map(|o| (o, hole, hole)).collect();
        out.items.push((1..=holes).map(|hole| Version { apart: beside(hole), ..Version::default() }).collect());
    }
    out.wants = (0..count).map(|b| (b, 1, ALL)).collect();
    out
}

/// One item of very many versions, and many that each want another part of them.
fn versions(count: u32, dependents: usize) -> Instance {
    let mut dice = Dice(0x5EED_0002);
    let mut out = Instance { items: vec![vec![Version::default(); count as usize]], ..Instance::default() };
    let middle = count / 2;
    for _ in 0..dependents {
        let old = (1 + dice.roll(middle as usize - 1) as u32, middle + 1 + dice.roll(middle as usize - 2) as u32);
        // its newest wants the newest, which not all can have
        let newest = Version { needs: vec![vec![(0, count - 5, ALL)]], ..Version::default() };
        out.items.push(vec![Version { needs: vec![vec![(0, old.0, old.1)]], ..Version::default() }, newest]);
        out.wants.push((out.items.len() - 1, 1, ALL));
    }
    // the last one can only have what lies in the middle
    out.items.push(vec![Version { needs: vec![vec![(0, middle, middle)]], ..Version::default() }]);
    out.wants.push((out.items.len() - 1, 1, ALL));
    out
}

/// Layers in which each needs two of the next, and what is newest at the top does not fit at the bottom.
fn diamond(depth: usize, width: usize, versions: u32) -> Instance {
    let mut out = Instance::default();
    for layer in 0..depth {
        for place in 0..width {
            let next = |at: usize| (layer + 1) * width + at % width;
            let all = (1..=versions).map(|v| {
                let needs = match layer + 1 < depth {
                    true => vec![vec![(next(place), v.saturating_sub(1).max(1), v)], vec![(next(place + 1), 1, v + 1)]],
                    false => Vec::new(),
                };
                Version { needs, ..Version::default() }
            });
            out.items.push(all.collect());
        }
    }
    // at the bottom only old ones are left in every third place
    for place in (0..width).step_by(3) {
        out.items[(depth - 1) * width + place].truncate(2);
    }
    out.wants = (0..width).map(|p| (p, 1, ALL)).collect();
    out
}

/// A catalogue in which two of the wanted lead, far away, to what cannot be together.
fn far(items: usize) -> Instance {
    let mut out = catalogue(items, 150);
    let begin = out.items.len();
    // ids behind the items are those that are provided: there are none of this catalogue's own left to need
    out.items.iter_mut().flatten().for_each(|v| {
        v.provides.clear();
        v.needs.retain(|n| n.iter().all(|(i, ..)| *i < items));
    });
    for way in 0..2 {
        for step in 0..40usize {
            let at = begin + way * 40 + step;
            let next = if step < 39 { (at + 1, 1, ALL) } else { (begin + 80, way as u32 + 1, way as u32 + 1) };
            out.items.push((0..5).map(|_| Version { needs: vec![vec![next]], ..Version::default() }).collect());
        }
    }
    out.items.push(vec![Version::default(); 2]);
    out.wants.push((begin, 1, ALL));
    out.wants.push((begin + 40, 1, ALL));
    out
}

/// The newest of each clash with the newest of all others: only one can have it, and the others the one before.
fn newest(items: usize, versions: u32) -> Instance {
    let mut out = Instance::default();
    for item in 0..items {
        let clash = |v: u32| {
            if v % 2 == 1 {
                return Vec::new();
            }
            (0..items).filter(|o| *o != item).map(|o| (o, v, v)).collect()
        };
        out.items.push((1..=versions).map(|v| Version { apart: clash(v), ..Version::default() }).collect());
    }
    out.wants = (0..items).map(|i| (i, 1, ALL)).collect();
    out
}
