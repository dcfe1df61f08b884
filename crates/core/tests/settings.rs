//! Every editor against outputs written by hand: only the bytes that were meant change.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use yalotheca_core::settings::{Document, Edit, EditError, Format, Path, Seat, Value};

fn path(text: &str) -> Path {
    Path::parse(text).unwrap()
}

/// Does what a line says: `a.b = 2`, `a.list += x`, `a.list += x @ first`, `a.list -= x`, `drop a.b`.
fn edit(line: &str) -> Edit {
    if let Some(rest) = line.strip_prefix("drop ") {
        return Edit::Remove { path: path(rest) };
    }
    let (at, rest) = Path::before_sign(line).unwrap();
    if let Some(value) = rest.strip_prefix("+=") {
        let (value, seat) =
            value.split_once(" @ ").map_or((value, Seat::Last), |(v, s)| (v, Seat::try_from(s.to_owned()).unwrap()));
        return Edit::Add { path: at, values: vec![Value::typed(value.trim())], seat };
    }
    if let Some(value) = rest.strip_prefix("-=") {
        return Edit::Drop { path: at, values: vec![Value::typed(value.trim())] };
    }
    let value = rest.strip_prefix('=').unwrap_or_else(|| panic!("{line}"));
    Edit::Set { path: at, value: Value::typed(value.trim()), force: None }
}

/// Makes the edits, then makes them again and finds nothing to do.
fn run(format: Format, before: &str, edits: &[&str]) -> Result<String, EditError> {
    let mut document = Document::parse(format, before.as_bytes()).unwrap_or_else(|e| panic!("{e}\n{before}"));
    assert_eq!(document.render(), before.as_bytes());
    let edits: Vec<Edit> = edits.iter().map(|e| edit(e)).collect();
    document.edit(&edits)?;
    let after = document.render();
    let again = Document::parse(format, &after).unwrap();
    if format != Format::Text {
        assert_eq!(again.value(), document.value());
    }
    let mut again = again;
    assert_eq!(again.edit(&edits).unwrap(), 0, "a second time changes nothing: {edits:?}");
    assert_eq!(again.render(), after);
    Ok(String::from_utf8(after).unwrap())
}

#[track_caller]
fn check(format: Format, before: &str, edits: &[&str], after: &str) {
    assert_eq!(run(format, before, edits).unwrap_or_else(|e| panic!("{e}\n{before}")), after, "{before}");
    // the same with the line ends of another system, with a byte-order mark, and without the last line's end
    let windows = |t: &str| t.replace('\n', "\r\n");
    if before.contains('\n') {
        assert_eq!(run(format, &windows(before), edits).unwrap(), windows(after));
    }
    let marked = |t: &str| format!("\u{feff}{t}");
    assert_eq!(run(format, &marked(before), edits).unwrap(), marked(after));
    if let (Some(before), Some(after)) = (before.strip_suffix('\n'), after.strip_suffix('\n'))
        && !before.is_empty()
    {
        assert_eq!(run(format, before, edits).unwrap(), after, "no last line end: {before}");
    }
}

#[track_caller]
fn refuses(format: Format, before: &str, edits: &[&str], why: &str) {
    let error = run(format, before, edits).unwrap_err().to_string();
    assert!(error.contains(why), "{error}\nexpected: {why}");
}

const JSON: &str = "{\n  // the club\n  \"name\": \"Tide\", // ours\n  \"fare\": 3,\n  \"rate\": 1.50,\n  \"stops\": [\n    \"pier\", // first\n    \"mole\"\n  ],\n  \"at\": [12, 0, 40],\n  \"lines\": [\n    {\n      \"id\": \"north\",\n      \"on\": true\n    },\n    {\n      \"id\": \"south\",\n      \"on\": false\n    }\n  ]\n}\n";

#[test]
fn json() {
    use Format::Json;
    check(Json, JSON, &["name=Salt"], &JSON.replace("\"Tide\"", "\"Salt\""));
    check(
        Json,
        JSON,
        &["fare=4", "rate=2", "at[2]=7"],
        &JSON.replace("3,", "4,").replace("1.50", "2").replace("[12, 0, 40]", "[12, 7, 40]"),
    );
    check(Json, JSON, &["lines[id=south].on=true"], &JSON.replace("false", "true"));
    check(Json, JSON, &["rate=1.5"], JSON);
    check(Json, JSON, &["stops+=quay"], &JSON.replace("\"mole\"\n", "\"mole\",\n    \"quay\"\n"));
    check(Json, JSON, &["stops+=quay @ first"], &JSON.replace("[\n    \"pier\"", "[\n    \"quay\",\n    \"pier\""));
    check(Json, JSON, &["stops+=quay @ after pier"], &JSON.replace("// first\n", "// first\n    \"quay\",\n"));
    check(Json, JSON, &["stops-=mole"], &JSON.replace("\"pier\", // first\n    \"mole\"\n", "\"pier\" // first\n"));
    check(Json, JSON, &["stops-=pier"], &JSON.replace("    \"pier\", // first\n", ""));
    check(Json, JSON, &["at+=9"], &JSON.replace("40]", "40, 9]"));
    check(Json, JSON, &["at-=0"], &JSON.replace("12, 0, 40", "12, 40"));
    check(Json, JSON, &["at-=40"], &JSON.replace("12, 0, 40", "12, 0"));
    check(
        Json,
        JSON,
        &["fog.density=2"],
        &JSON.replace("    }\n  ]\n}", "    }\n  ],\n  \"fog\": {\n    \"density\": 2\n  }\n}"),
    );
    check(
        Json,
        JSON,
        &["lines+={\"id\": \"west\", \"on\": true}"],
        &JSON.replace(
            "\"on\": false\n    }\n",
            "\"on\": false\n    },\n    {\n      \"id\": \"west\",\n      \"on\": true\n    }\n",
        ),
    );
    check(Json, JSON, &["drop fare"], &JSON.replace("  \"fare\": 3,\n", ""));
    check(Json, "{}\n", &["a=1"], "{\"a\": 1}\n");
    check(Json, "{\"a\":1}\n", &["b=x"], "{\"a\":1, \"b\":\"x\"}\n");
    check(Json, "{ \"a\": [] }\n", &["a+=x", "a+=y"], "{ \"a\": [\"x\", \"y\"] }\n");
    check(Json, "{\n  \"a\": 1,\n}\n", &["b=2"], "{\n  \"a\": 1,\n  \"b\": 2,\n}\n");
    check(Json, "[1, 2]\n", &["[1]=3", "+=4"], "[3, 2, 4]\n");
    check(
        Json,
        "{\n\t\"a\": {\n\t\t\"b\": 1\n\t}\n}\n",
        &["a.c=2"],
        "{\n\t\"a\": {\n\t\t\"b\": 1,\n\t\t\"c\": 2\n\t}\n}\n",
    );
    check(Json, "{\"a\": null}\n", &["a.b=1"], "{\"a\": {\"b\": 1}}\n");
    check(Json, "{\"t\": \"a \\\"b\\\" é\"}\n", &["t=\"quoted\" \\ ü"], "{\"t\": \"\\\"quoted\\\" \\\\ ü\"}\n");
    refuses(Json, JSON, &["fare=free"], "a number stands at `fare`, and `free` is text");
    refuses(Json, JSON, &["fare=true"], "a number stands");
    refuses(Json, JSON, &["stops=x"], "a list stands at `stops`");
    refuses(Json, JSON, &["fare.more=1"], "nothing stands at");
}

const YAML: &str = "# rules\nfog: 2 # thick\nname: 'Old ''Harbour'''\nmotto: \"tide\\nand time\"\nstages:\n  - pier   # first\n  - mole\nlines:\n  - id: north\n    on: yes\n  - id: south\n    on: no\nrates: {xp: 1.0, ore: 2}\nlong: |\n  one\n  two\nlast:\n  deep:\n    x: 1\n";

#[test]
fn yaml() {
    use Format::Yaml;
    check(Yaml, YAML, &["fog=3"], &YAML.replace("fog: 2", "fog: 3"));
    check(Yaml, YAML, &["name=It's"], &YAML.replace("'Old ''Harbour'''", "'It''s'"));
    check(Yaml, YAML, &["motto=a: b"], &YAML.replace("\"tide\\nand time\"", "\"a: b\""));
    check(Yaml, YAML, &["rates.*=3"], &YAML.replace("{xp: 1.0, ore: 2}", "{xp: 3, ore: 3}"));
    check(Yaml, YAML, &["rates.stone=4"], &YAML.replace("ore: 2}", "ore: 2, stone: 4}"));
    check(Yaml, YAML, &["stages+=quay"], &YAML.replace("  - mole\n", "  - mole\n  - quay\n"));
    check(Yaml, YAML, &["stages+=quay @ first"], &YAML.replace("  - pier ", "  - quay\n  - pier "));
    check(Yaml, YAML, &["stages-=pier"], &YAML.replace("  - pier   # first\n", ""));
    check(Yaml, YAML, &["lines[id=south].on=true"], &YAML.replace("on: no", "on: yes"));
    check(Yaml, YAML, &["lines[id=north].fare=2"], &YAML.replace("    on: yes\n", "    on: yes\n    fare: 2\n"));
    check(
        Yaml,
        YAML,
        &["lines+={\"id\": \"west\", \"on\": true}"],
        &YAML.replace("on: no\n", "on: no\n  - id: west\n    on: true\n"),
    );
    check(Yaml, YAML, &["drop lines[id=north].id"], &YAML.replace("- id: north\n    on: yes", "- on: yes"));
    check(
        Yaml,
        YAML,
        &["last.deep.y=2", "last.other=x"],
        &YAML.replace("    x: 1\n", "    x: 1\n    y: 2\n  other: x\n"),
    );
    check(Yaml, YAML, &["new.key=1"], &format!("{YAML}new:\n  key: 1\n"));
    check(Yaml, YAML, &["drop fog"], &YAML.replace("fog: 2 # thick\n", ""));
    check(Yaml, YAML, &["drop last"], &YAML.replace("last:\n  deep:\n    x: 1\n", ""));
    check(Yaml, YAML, &["long=three"], &YAML.replace("|\n  one\n  two\n", "\"three\"\n"));
    check(Yaml, "a:\nb: 1\n", &["a+=x"], "a:\n  - x\nb: 1\n");
    check(Yaml, "a:\n- x\n- y\nb: 1\n", &["a+=z"], "a:\n- x\n- y\n- z\nb: 1\n");
    check(Yaml, "a: []\n", &["a+=x"], "a: [x]\n");
    check(Yaml, "a:\n  - x\n", &["a-=x"], "a: []\n");
    check(Yaml, "a: text\n", &["a=7"], "a: \"7\"\n");
    check(Yaml, "a: 1.2.3\n", &["a=1.2.4"], "a: 1.2.4\n");
    check(Yaml, "a: On\n", &["a=false"], "a: Off\n");
    check(Yaml, "a: True\n", &["a=false"], "a: False\n");
    check(Yaml, "---\na: 1\n---\na: 2\n", &["[2].a=3"], "---\na: 1\n---\na: 3\n");
    check(Yaml, "ä: ö # ü\nb: é\nc: [ñ, x]\n", &["b=å", "c[2]=ß"], "ä: ö # ü\nb: å\nc: [ñ, ß]\n");
    check(Yaml, "- a\n- b\n", &["+=c"], "- a\n- b\n- c\n");
    check(Yaml, "x: &keep 4\ny: 1\n", &["x=5", "y=2"], "x: &keep 5\ny: 2\n");
    check(Yaml, "a:\n  # why\n  b: 1\n\n# next\nc: 2\n", &["a.d=3"], "a:\n  # why\n  b: 1\n  d: 3\n\n# next\nc: 2\n");
    refuses(Yaml, "x: &n 4\ny: *n\n", &["y=2"], "is an alias");
    refuses(Yaml, "x: &n 4\ny: *n\n", &["x=2"], "has an anchor");
    refuses(Yaml, "x: !fog 4\n", &["x=2"], "carries a tag");
    refuses(Yaml, YAML, &["fog=thick"], "a number stands at `fog`");
}

const TOML: &str = "# club\nname = \"Tide\" # ours\nfare = 3\nrate = 1.5\nopen = 2026-11-23\nlit = 'C:\\x'\nstops = [\n  \"pier\", # first\n  \"mole\",\n]\nat = [12, 0, 40]\n\n[world]\nfog.density = 2\nfog.colour = \"grey\"\nline = { id = \"n\", on = true }\n\n[[ship]]\nname = \"a\"\n\n[[ship]]\nname = \"b\"\n";

#[test]
fn toml() {
    use Format::Toml;
    check(Toml, TOML, &["name=Salt", "fare=4"], &TOML.replace("\"Tide\"", "\"Salt\"").replace("fare = 3", "fare = 4"));
    check(Toml, TOML, &["rate=2"], &TOML.replace("1.5", "2.0"));
    check(Toml, TOML, &["lit=D:\\y"], &TOML.replace("'C:\\x'", "'D:\\y'"));
    check(Toml, TOML, &["open=2027-01-01"], &TOML.replace("2026-11-23", "2027-01-01"));
    check(Toml, TOML, &["stops+=quay"], &TOML.replace("\"mole\",\n", "\"mole\",\n  \"quay\",\n"));
    check(Toml, TOML, &["world.fog.density=5"], &TOML.replace("density = 2", "density = 5"));
    check(Toml, TOML, &["world.fog.more=5"], &TOML.replace("colour = \"grey\"\n", "colour = \"grey\"\nfog.more = 5\n"));
    check(Toml, TOML, &["world.line.on=false", "world.line.x=1"], &TOML.replace("on = true }", "on = false, x = 1 }"));
    check(Toml, TOML, &["world.new=1"], &TOML.replace("on = true }\n", "on = true }\nnew = 1\n"));
    check(Toml, TOML, &["top=1"], &TOML.replace("40]\n", "40]\ntop = 1\n"));
    check(Toml, TOML, &["ship[name=b].crew=2"], &format!("{TOML}crew = 2\n"));
    check(Toml, TOML, &["sky.blue=true"], &format!("{TOML}\n[sky]\nblue = true\n"));
    check(Toml, TOML, &["drop fare"], &TOML.replace("fare = 3\n", ""));
    check(Toml, TOML, &["drop world.fog"], &TOML.replace("fog.density = 2\nfog.colour = \"grey\"\n", ""));
    check(Toml, "[a]\nx = 1\n\n[b]\ny = 2\n", &["drop b"], "[a]\nx = 1\n");
    check(Toml, "", &["a=1"], "a = 1\n");
    check(Toml, "# only\n[a]\n", &["a.b=x"], "# only\n[a]\nb = \"x\"\n");
    check(Toml, "[a]\nx=1\n", &["y=1", "a.z=1"], "y = 1\n[a]\nx=1\nz=1\n");
    refuses(Toml, TOML, &["fare=1.5"], "a whole number stands at `fare`, and `1.5` is none");
    refuses(Toml, TOML, &["open=soon"], "a date stands there");
}

const INI: &str = "; club\ntop = 1\n\n[world]\nsequence = Salt Pier | Old Harbour ; order\nbegin=Salt\nmod = a\nmod = b\nquoted = \"x y\"\n\n[item 48213077]\ntitle = Fog\non = 1\n";

#[test]
fn ini() {
    use Format::Ini;
    check(Ini, INI, &["world.begin=Fog"], &INI.replace("begin=Salt", "begin=Fog"));
    check(Ini, INI, &["world.sequence=Fog"], &INI.replace("Salt Pier | Old Harbour ;", "Fog ;"));
    check(Ini, INI, &["\"item 48213077\".on=0"], &INI.replace("on = 1", "on = 0"));
    check(Ini, INI, &["item 48213077.title=Fog 2"], &INI.replace("title = Fog", "title = Fog 2"));
    check(Ini, INI, &["world.mod[2]=c"], &INI.replace("mod = b", "mod = c"));
    check(Ini, INI, &["world.mod+=c"], &INI.replace("mod = b\n", "mod = b\nmod = c\n"));
    check(Ini, INI, &["world.mod-=a"], &INI.replace("mod = a\n", ""));
    check(Ini, INI, &["world.begin+=Fog"], &INI.replace("begin=Salt\n", "begin=Salt\nbegin=Fog\n"));
    check(Ini, INI, &["world.quoted=z w"], &INI.replace("\"x y\"", "\"z w\""));
    check(Ini, INI, &["world.new=1"], &INI.replace("quoted = \"x y\"\n", "quoted = \"x y\"\nnew = 1\n"));
    check(Ini, INI, &["more=2"], &INI.replace("top = 1\n", "top = 1\nmore = 2\n"));
    check(Ini, INI, &["sky.blue=1"], &format!("{INI}\n[sky]\nblue = 1\n"));
    check(
        Ini,
        INI,
        &["drop world"],
        &INI.replace(
            "\n[world]\nsequence = Salt Pier | Old Harbour ; order\nbegin=Salt\nmod = a\nmod = b\nquoted = \"x y\"\n",
            "",
        ),
    );
    check(Ini, "[a]\nx=1\n[a]\nx=2\n", &["a[2].x=3"], "[a]\nx=1\n[a]\nx=3\n");
    check(Ini, "[a]\nflag\n", &["a.flag=1"], "[a]\nflag = 1\n");
    refuses(Ini, INI, &["world.mod=c"], "it stands 2 times");
    refuses(Ini, INI, &["top=x"], "a number stands at `top`");
}

#[test]
fn properties() {
    use Format::Properties;
    let text = "# club\ncore.file = tide.qcore\nruntime=17\n! old\nmotto: one\\\n   two\nempty=\n";
    check(Properties, text, &["core.file=fog.qcore"], &text.replace("tide", "fog"));
    check(Properties, text, &["runtime=21"], &text.replace("17", "21"));
    check(Properties, text, &["motto=three"], &text.replace("one\\\n   two", "three"));
    check(Properties, text, &["empty=x"], &text.replace("empty=", "empty=x"));
    check(Properties, text, &["terms.accepted=3"], &format!("{text}terms.accepted=3\n"));
    check(Properties, text, &["drop runtime"], &text.replace("runtime=17\n", ""));
    check(Properties, "rate.xp=1\nrate.ore=2\n", &["rate.*=3"], "rate.xp=3\nrate.ore=3\n");
    check(Properties, "", &["a=1"], "a=1\n");
    refuses(Properties, text, &["runtme.x=3", "runtime=fast"], "a number stands at `runtime`");
}

const XML: &str = "<?xml version=\"1.0\"?>\n<!-- club -->\n<club>\n  <door port=\"4722\" open='yes'/>\n  <name>Tide &amp; Salt</name>\n  <map id=\"1\">pier</map>\n  <map id=\"2\">mole</map>\n  <empty/>\n  <deep>\n    <x>1</x>\n  </deep>\n</club>\n";

#[test]
fn xml() {
    use Format::Xml;
    check(Xml, XML, &["club.door.@port=4800"], &XML.replace("4722", "4800"));
    check(Xml, XML, &["club.door.@open=it's"], &XML.replace("'yes'", "'it&apos;s'"));
    check(Xml, XML, &["club.name=a < b"], &XML.replace("Tide &amp; Salt", "a &lt; b"));
    check(Xml, XML, &["club.map[@id=2].@=quay"], &XML.replace("mole", "quay"));
    check(Xml, XML, &["club.empty=full"], &XML.replace("<empty/>", "<empty>full</empty>"));
    check(Xml, XML, &["club.deep.y=2"], &XML.replace("<x>1</x>\n", "<x>1</x>\n    <y>2</y>\n"));
    check(Xml, XML, &["club.deep.x+=2"], &XML.replace("<x>1</x>\n", "<x>1</x>\n    <x>2</x>\n"));
    check(Xml, XML, &["club.door.@max=9"], &XML.replace("'yes'/>", "'yes' max=\"9\"/>"));
    check(Xml, XML, &["drop club.map[@id=1]"], &XML.replace("  <map id=\"1\">pier</map>\n", ""));
    check(Xml, XML, &["drop club.map"], &XML.replace("  <map id=\"1\">pier</map>\n  <map id=\"2\">mole</map>\n", ""));
    check(Xml, XML, &["drop club.door.@open"], &XML.replace(" open='yes'", ""));
    check(
        Xml,
        XML,
        &["club.map+={\"@id\": \"3\", \"@\": \"quay\"}"],
        &XML.replace("mole</map>\n", "mole</map>\n  <map id=\"3\">quay</map>\n"),
    );
    refuses(Xml, XML, &["club.deep.x=y"], "a number stands");
    refuses(Xml, "<a>text <b>1</b> more</a>\n", &["a.@=x"], "elements in between");
}

#[test]
fn name_value() {
    use Format::NameValue;
    let text = "// door\ndoor_name \"Salt // Pier\" // ours\nsend_limit_mb \"24\"\n\nexec \"a\"\nexec \"b\"\nbare 7\n";
    check(NameValue, text, &["door_name=Fog Bank"], &text.replace("Salt // Pier", "Fog Bank"));
    check(NameValue, text, &["send_limit_mb=64", "bare=8"], &text.replace("24", "64").replace("bare 7", "bare 8"));
    check(NameValue, text, &["exec+=c"], &text.replace("exec \"b\"\n", "exec \"b\"\nexec \"c\"\n"));
    check(NameValue, text, &["exec-=a"], &text.replace("exec \"a\"\n", ""));
    check(NameValue, text, &["fetch_index=x y"], &format!("{text}fetch_index \"x y\"\n"));
    check(NameValue, text, &["drop bare"], &text.replace("bare 7\n", ""));
    refuses(NameValue, text, &["door_name=a \"b\""], "quotes");
}

#[test]
fn lines_and_columns() {
    let text = "# order\ntide\nfog # second\n\nsalt\n";
    check(Format::Lines, text, &["+=mole"], &format!("{text}mole\n"));
    check(Format::Lines, text, &["+=mole @ before fog"], &text.replace("fog", "mole\nfog"));
    check(Format::Lines, text, &["-=fog"], &text.replace("fog # second\n", ""));
    check(Format::Lines, text, &["[2]=mist"], &text.replace("fog #", "mist #"));
    check(Format::Lines, "", &["+=a"], "a\n");
    let table = "# arenas\ngreywater  in  2\npier       out 1 # old\n";
    check(Format::Columns, table, &["[1=greywater].3=4"], &table.replace("in  2", "in  4"));
    check(Format::Columns, table, &["[1=pier][2]=in"], &table.replace("out", "in"));
    check(Format::Columns, table, &["+=mole in 1"], &format!("{table}mole in 1\n"));
    check(Format::Columns, table, &["-=greywater  in  2"], &table.replace("greywater  in  2\n", ""));
    check(Format::Columns, "a|b|c\nd|e|f\n", &["[2].2=x y", "+=[\"g\", \"h\", \"i\"]"], "a|b|c\nd|x y|f\ng|h|i\n");
}

const BLOCKS: &str = "# rail\nname = The long night\nmemory { pool_mb = 512 }\nlimits { a = 1; b = two words; }\nworld {\n  land = \"salt\" # here\n  fog = 2\n  inner {\n    x = 1;\n    y = 2;\n  }\n}\ntrain { id = 1 }\ntrain { id = 2 }\n";

#[test]
fn blocks() {
    use Format::Blocks;
    check(
        Blocks,
        BLOCKS,
        &["name=Short day", "memory.pool_mb=1024"],
        &BLOCKS.replace("The long night", "Short day").replace("512", "1024"),
    );
    check(Blocks, BLOCKS, &["memory.fast=true"], &BLOCKS.replace("512 }", "512 fast = true }"));
    check(Blocks, BLOCKS, &["limits.c=3"], &BLOCKS.replace("two words; }", "two words; c = 3; }"));
    check(Blocks, BLOCKS, &["limits.b=x"], &BLOCKS.replace("two words", "x"));
    check(
        Blocks,
        BLOCKS,
        &["world.land=fog", "world.wind=3"],
        &BLOCKS.replace("\"salt\"", "\"fog\"").replace("    y = 2;\n  }\n", "    y = 2;\n  }\n  wind = 3\n"),
    );
    check(Blocks, BLOCKS, &["world.inner.z=3"], &BLOCKS.replace("y = 2;\n", "y = 2;\n    z = 3;\n"));
    check(Blocks, BLOCKS, &["train[2].id=3"], &BLOCKS.replace("id = 2", "id = 3"));
    check(Blocks, BLOCKS, &["drop limits.a"], &BLOCKS.replace("a = 1; ", ""));
    check(Blocks, BLOCKS, &["drop limits.b"], &BLOCKS.replace(" b = two words;", ""));
    check(Blocks, BLOCKS, &["drop world.fog"], &BLOCKS.replace("  fog = 2\n", ""));
    check(Blocks, BLOCKS, &["new.key=1"], &format!("{BLOCKS}new {{\n  key = 1\n}}\n"));
    check(Blocks, "a { x = 1 y = 2 }\n", &["a.x=3", "a.y=4"], "a { x = 3 y = 4 }\n");
    check(Blocks, "a\n{\n  b = 1\n}\n", &["a.b=2"], "a\n{\n  b = 2\n}\n");
    check(Blocks, BLOCKS, &["name=a; b"], &BLOCKS.replace("The long night", "\"a; b\""));
}

const BRACE: &str = "-- rules\nlocal version = 3\nrules = {\n  fog = true, -- thick\n  rate = 1.5,\n  name = 'Salt',\n  [\"odd key\"] = 1,\n  stops = { \"pier\", \"mole\" },\n  on_start = function(x) return { x = 1, y = 2 } end,\n  { id = 1 }; { id = 2 },\n}\nfunction go()\n  rules = { no = 1 }\nend\nreturn { a = 1 }\n";

#[test]
fn brace_tables() {
    use Format::BraceTables;
    check(
        BraceTables,
        BRACE,
        &["rules.fog=false", "rules.rate=2"],
        &BRACE.replace("fog = true", "fog = false").replace("1.5", "2"),
    );
    check(BraceTables, BRACE, &["rules.name=It's"], &BRACE.replace("'Salt'", "'It\\'s'"));
    check(BraceTables, BRACE, &["rules.odd key=2"], &BRACE.replace("] = 1", "] = 2"));
    check(BraceTables, BRACE, &["rules.stops+=quay"], &BRACE.replace("\"mole\" }", "\"mole\", \"quay\" }"));
    check(BraceTables, BRACE, &["rules[2].id=5"], &BRACE.replace("{ id = 2 }", "{ id = 5 }"));
    check(
        BraceTables,
        BRACE,
        &["version=4", "return.a=2"],
        &BRACE.replace("version = 3", "version = 4").replace("{ a = 1 }", "{ a = 2 }"),
    );
    check(BraceTables, BRACE, &["rules.new=x"], &BRACE.replace("{ id = 2 },\n", "{ id = 2 },\n  new = 'x',\n"));
    check(BraceTables, BRACE, &["drop rules.rate"], &BRACE.replace("  rate = 1.5,\n", ""));
    refuses(BraceTables, BRACE, &["rules.on_start=x"], "is code");
}

#[test]
fn any_other_text() {
    use Format::Text;
    let text = "Welcome!\nSpeed is 12 knots (was 9).\nSpeed was 9 knots.\n";
    check(Text, text, &["/Speed is (\\d+) knots.*/=14"], &text.replace("12", "14"));
    check(Text, text, &["/Speed \\w+ (?P<value>\\d+) knots.*/[2]=8"], &text.replace("was 9 knots", "was 8 knots"));
    refuses(Text, text, &["/Speed \\w+ (\\d+) knots.*/=8"], "it stands 2 times");
    refuses(Text, text, &["/Depth (\\d+)/=8"], "nothing stands at");
}

#[test]
fn mixed_line_ends_and_latin_1_stay() {
    let mut mixed = Document::parse(Format::Ini, b"a=1\r\nb=2\nc=3\r\n").unwrap();
    mixed.edit(&[edit("b=5"), edit("d=4")]).unwrap();
    assert_eq!(mixed.render(), b"a=1\r\nb=5\nc=3\r\nd=4\r\n");
    let latin = b"name = caf\xe9 \xfc\nrate = 1\n";
    let mut document = Document::parse(Format::Ini, latin).unwrap();
    document.edit(&[edit("rate=2"), edit("more=\u{e4}")]).unwrap();
    assert_eq!(document.render(), b"name = caf\xe9 \xfc\nrate = 2\nmore = \xe4\n");
    let error = document.edit(&[edit("more=\u{20ac}")]).unwrap_err();
    assert!(error.to_string().contains("Latin-1"), "{error}");
    assert_eq!(document.render(), b"name = caf\xe9 \xfc\nrate = 2\nmore = \xe4\n");
    for bad in [&b"a=\x93x\x94\n"[..], b"\xff\xfea\0", b"a=\0\n", b"\xef\xbb\xbfa=\xe9\n"] {
        assert!(Document::parse(Format::Ini, bad).is_err());
    }
}

#[test]
fn what_is_in_doubt_says_where() {
    for (format, text, line, why) in [
        (Format::Json, "{\n  \"a\": 1\n  \"b\": 2\n}", 3, "a comma is missing"),
        (Format::Json, "{\n  \"a\": 1,,\n  \"b\": 2\n}", 2, "a comma too many"),
        (Format::Json, "{\"a\": 1, \"a\": 2}", 1, "stands here and on line 1"),
        (Format::Json, "{\"a\": \"x\n}", 1, "is not closed"),
        (Format::Json, "{\"a\": [1, 2}", 1, "not closed before"),
        (Format::Json, "{\"a\": 1", 1, "is not closed"),
        (Format::Json, "{\u{201c}a\u{201d}: 1}", 1, "cannot be read"),
        (Format::Yaml, "a:\n\tb: 1\n", 2, "a tab stands"),
        (Format::Yaml, "a: 1\na: 2\n", 2, "stands here and on line 1"),
        (Format::Toml, "a = 1\na = 2\n", 2, "duplicate"),
        (Format::Properties, "a=1\nb\n", 2, "is no `key=value` line"),
        (Format::Ini, "[a\nx=1\n", 1, "is not closed"),
        (Format::Xml, "<a><b></a>", 1, "cannot be read"),
        (Format::NameValue, "a \"b\n", 1, "is not closed"),
        (Format::Blocks, "a {\n b = 1\n", 2, "is not closed"),
        (Format::Blocks, "a = 1 }\n", 1, "a `}` too many"),
        (Format::BraceTables, "a = { 1 2 }", 1, "a comma is missing"),
        (Format::BraceTables, "a = { x = 1", 1, "is not closed"),
    ] {
        let error = Document::parse(format, text.as_bytes()).unwrap_err();
        assert!(error.line == line && error.why.contains(why), "{format:?} {text:?}: {error}");
    }
}
