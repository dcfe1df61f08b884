use super::*;
use proptest::prelude::*;

fn rising(scheme: Scheme, texts: &[&str]) {
    for pair in texts.windows(2) {
        let (a, b) = (Version::new(pair[0]), Version::new(pair[1]));
        assert_eq!(a.compare(&b, scheme), Ordering::Less, "{a} must come before {b} ({scheme:?})");
    }
}

#[test]
fn real_spellings_are_in_order() {
    rising(
        Scheme::Plain,
        &["b6", "b10", "rc3", "0.9", "1.0-alpha", "1.0b2", "1.0-rc1", "1.0", "1.0.1", "1.10", "v3", "3.9.1"],
    );
    rising(
        Scheme::Plain,
        &["2.0.0-dev.4", "2.0.0-beta.2+build7", "2.0.0-beta.11", "2.0.0", "2.0.0+build1", "2024.11.3"],
    );
    rising(Scheme::Plain, &["4.7.3", "4.7.3-12.5.0", "4.7.3-12.10.0", "4.7.3-hotfix", "4.7.4"]);
    rising(Scheme::DashBefore, &["4.7.3-12.5.0", "4.7.3-hotfix", "4.7.3", "4.7.3+2"]);
    rising(Scheme::DashAfter, &["4.7.3", "4.7.3-12.5.0", "4.7.3-rc1", "4.7.4"]);
    rising(Scheme::Plain, &["99999999999999999999998", "99999999999999999999999", "100000000000000000000000"]);
}

#[test]
fn the_same_number_written_twice_is_equal() {
    for (a, b) in [("1.0", "1.0.0"), ("v3", "3"), ("01.2", "1.2"), ("1", "1.0.0.0")] {
        assert_eq!(Version::new(a).compare(&Version::new(b), Scheme::Plain), Ordering::Equal, "{a} {b}");
    }
}

#[test]
fn ranges_hold_what_people_expect() {
    let cases: &[(&str, &[&str], &[&str])] = &[
        ("^2", &["2", "2.0.0", "2.9.1", "2.0.1-5"], &["1.9", "3", "3.0-beta", "2.0-beta"]),
        ("^0.3.1", &["0.3.1", "0.3.9"], &["0.4", "0.3.0"]),
        ("^0.0.3", &["0.0.3"], &["0.0.4"]),
        ("~1.4", &["1.4", "1.4.9"], &["1.5", "1.3.9"]),
        ("~1.4.2", &["1.4.2", "1.4.9"], &["1.5", "1.4.1"]),
        ("~1", &["1", "1.9"], &["2"]),
        (">=1.2 <2", &["1.2", "1.9.9", "2.0-beta"], &["2", "1.1"]),
        (">= 1.2, < 2", &["1.2"], &["2"]),
        ("1.x", &["1.0", "1.99"], &["2.0", "0.9"]),
        ("1.2.*", &["1.2.7"], &["1.3"]),
        ("*", &["0", "b6", "9-beta"], &[]),
        ("", &["0"], &[]),
        ("1.0 || >=3", &["1.0.0", "3.1"], &["1.1", "2"]),
        ("!=1.3 ^1", &["1.2"], &["1.3.0"]),
        ("2.1.0", &["2.1"], &["2.1.1"]),
    ];
    for (range, inside, outside) in cases {
        let range = Range::parse(range).unwrap();
        for v in *inside {
            assert!(range.holds(&Version::new(v), Scheme::Plain), "{range} must hold {v}");
        }
        for v in *outside {
            assert!(!range.holds(&Version::new(v), Scheme::Plain), "{range} must not hold {v}");
        }
    }
}

#[test]
fn broken_ranges_are_refused() {
    for bad in [">=", "^", "1 ||", "|| 1", "&2", ">=1.x", "^^2"] {
        assert!(Range::parse(bad).is_err(), "{bad} must be refused");
    }
}

fn any_version() -> impl Strategy<Value = String> {
    prop_oneof![
        r"v?[0-9]{1,3}(\.[0-9]{1,2}){0,3}(-(alpha|beta|rc|hotfix|[0-9]{1,2})(\.[0-9])?)?(\+[a-z]{0,3}[0-9])?",
        r"[a-z]{1,3}[0-9]{0,2}",
        "\\PC{0,12}",
    ]
}

fn any_scheme() -> impl Strategy<Value = Scheme> {
    prop_oneof![Just(Scheme::Plain), Just(Scheme::DashBefore), Just(Scheme::DashAfter), Just(Scheme::ByDate)]
}

proptest! {
    #[test]
    fn every_scheme_is_a_total_order(a in any_version(), b in any_version(), c in any_version(), s in any_scheme()) {
        let (a, b, c) = (Version::new(&a), Version::new(&b), Version::new(&c));
        prop_assert_eq!(a.total(&b, s), b.total(&a, s).reverse());
        prop_assert_eq!(a.total(&b, s) == Ordering::Equal, a.as_str() == b.as_str());
        prop_assert!(!a.as_str().chars().any(char::is_control));
        if a.total(&b, s).is_le() && b.total(&c, s).is_le() {
            prop_assert!(a.total(&c, s).is_le(), "{a} ≤ {b} ≤ {c}");
        }
    }

    #[test]
    fn a_range_reads_what_it_writes(text in r"(\^|~|>=|<|=)?[0-9]{1,2}(\.[0-9]{1,2}){0,2}( <[0-9]{1,2})?( \|\| [0-9])?", v in any_version(), s in any_scheme()) {
        let range = Range::parse(&text).unwrap();
        let again = Range::parse(&range.to_string()).unwrap();
        let v = Version::new(&v);
        prop_assert_eq!(range.holds(&v, s), again.holds(&v, s));
    }

    #[test]
    fn reading_never_panics(text in "\\PC{0,40}") {
        let _ = Version::new(&text);
        let _ = Range::parse(&text);
    }
}
