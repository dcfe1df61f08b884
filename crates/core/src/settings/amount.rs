//! Arithmetic on the numbers of settings files, done in decimal digits: `0.1 * 3` is `0.3`.

use thiserror::Error;

/// What to do with a number that stands there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Amount {
    sign: char,
    by: String,
}

/// Arithmetic that cannot be done.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum AmountError {
    /// Division by nothing.
    #[error("nothing can be divided by 0")]
    Zero,
    /// The result has more digits than a number here may have.
    #[error("the result is too large")]
    Large,
    /// What stands there is no number.
    #[error("`{0}` is no number to reckon with")]
    NoNumber(String),
}

/// A number as whole digits and how many of them stand behind the point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Decimal {
    digits: i128,
    places: u32,
}

/// More places behind the point are refused.
const MOST_PLACES: u32 = 18;

fn decimal(text: &str) -> Option<Decimal> {
    if !super::node::is_number(text) || text.len() > 30 {
        return None;
    }
    let (mantissa, exponent) = match text.find(['e', 'E']) {
        Some(at) => (text.get(..at)?, text.get(at + 1..)?.parse::<i32>().ok()?),
        None => (text, 0),
    };
    let (whole, part) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let digits: i128 = format!("{whole}{part}").parse().ok()?;
    let places = i32::try_from(part.len()).ok()? - exponent;
    if places >= 0 {
        let places = u32::try_from(places).ok().filter(|p| *p <= MOST_PLACES)?;
        return Some(Decimal { digits, places });
    }
    let more = u32::try_from(-places).ok().filter(|p| *p <= MOST_PLACES)?;
    Some(Decimal { digits: digits.checked_mul(10i128.checked_pow(more)?)?, places: 0 })
}

/// Whether two numbers are equal, however they are written.
pub(super) fn equal(a: &str, b: &str) -> bool {
    if a == b {
        return true;
    }
    let (Some(a), Some(b)) = (decimal(a), decimal(b)) else { return false };
    let places = a.places.max(b.places);
    match (at_places(a, places), at_places(b, places)) {
        (Some(a), Some(b)) => a == b,
        _ => false,
    }
}

/// Compares two numbers as settings files write them; `None` where one is none.
pub fn compare(a: &str, b: &str) -> Option<std::cmp::Ordering> {
    let (a, b) = (decimal(a)?, decimal(b)?);
    let places = a.places.max(b.places);
    Some(at_places(a, places)?.cmp(&at_places(b, places)?))
}

fn at_places(d: Decimal, places: u32) -> Option<i128> {
    d.digits.checked_mul(10i128.checked_pow(places.checked_sub(d.places)?)?)
}

impl Amount {
    /// Reads `*2`, `/3`, `+5` or `- 1.5`; `None` where it is no arithmetic. A minus stands apart from what it takes
    /// away: `-5` is a number to be set.
    pub fn parse(text: &str) -> Option<Self> {
        let sign = text.chars().next().filter(|c| matches!(c, '*' | '/' | '+' | '-'))?;
        if sign == '-' && !text.starts_with("- ") {
            return None;
        }
        let by = text.get(1..)?.trim();
        decimal(by)?;
        Some(Self { sign, by: by.to_owned() })
    }

    /// Returns the result for what stands there, with as many digits behind the point as that has.
    ///
    /// # Errors
    /// [`AmountError`].
    pub fn of(&self, base: &str) -> Result<String, AmountError> {
        let there = decimal(base).ok_or_else(|| AmountError::NoNumber(crate::text::clean(base, 40)))?;
        let by = decimal(&self.by).ok_or_else(|| AmountError::NoNumber(self.by.clone()))?;
        let large = AmountError::Large;
        // written with an exponent, a number has no places of its own; its digits tell
        let places = base.split_once('.').map_or(0, |(_, p)| p.bytes().take_while(u8::is_ascii_digit).count());
        let places = u32::try_from(places).map_err(|_| large.clone())?.max(if base.contains(['e', 'E']) {
            there.places
        } else {
            0
        });
        let (numerator, denominator) = match self.sign {
            '*' => {
                let product = there.digits.checked_mul(by.digits).ok_or(large.clone())?;
                (product, power(there.places + by.places)?)
            }
            '/' if by.digits == 0 => return Err(AmountError::Zero),
            '/' => {
                let over = there.digits.checked_mul(power(by.places)?).ok_or(large.clone())?;
                (over, by.digits.checked_mul(power(there.places)?).ok_or(large.clone())?)
            }
            sign => {
                let most = there.places.max(by.places);
                let a = at_places(there, most).ok_or(large.clone())?;
                let b = at_places(by, most).ok_or(large.clone())?;
                let sum = if sign == '+' { a.checked_add(b) } else { a.checked_sub(b) };
                (sum.ok_or(large.clone())?, power(most)?)
            }
        };
        let scaled = numerator.checked_mul(power(places)?).ok_or(large)?;
        Ok(written(rounded(scaled, denominator), places))
    }
}

impl std::fmt::Display for Amount {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}{}{}", self.sign, if self.sign == '-' { " " } else { "" }, self.by)
    }
}

fn power(places: u32) -> Result<i128, AmountError> {
    10i128.checked_pow(places).ok_or(AmountError::Large)
}

/// Divides, a half away from zero.
fn rounded(numerator: i128, denominator: i128) -> i128 {
    let (numerator, denominator) = if denominator < 0 { (-numerator, -denominator) } else { (numerator, denominator) };
    let (whole, rest) = (numerator / denominator, (numerator % denominator).abs());
    if rest >= denominator - rest { whole + numerator.signum() } else { whole }
}

fn written(digits: i128, places: u32) -> String {
    let places = places as usize;
    let sign = if digits < 0 { "-" } else { "" };
    let text = format!("{:0>width$}", digits.unsigned_abs(), width = places + 1);
    let (whole, part) = text.split_at(text.len() - places);
    if part.is_empty() { format!("{sign}{whole}") } else { format!("{sign}{whole}.{part}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_are_rounded_as_the_number_was() {
        for (base, op, result) in [
            ("1.50", "*2", "3.00"),
            ("3", "*1.5", "5"),
            ("1", "/3", "0"),
            ("2", "/3", "1"),
            ("1.0", "/3", "0.3"),
            ("0.1", "*3", "0.3"),
            ("-5", "/2", "-3"),
            ("10", "+2.5", "13"),
            ("10", "- 20", "-10"),
            ("10", "+-20", "-10"),
            ("0.05", "- 0.1", "-0.05"),
            ("100", "*0", "0"),
        ] {
            assert_eq!(Amount::parse(op).unwrap().of(base).unwrap(), result, "{base} {op}");
        }
    }

    #[test]
    fn what_cannot_be_reckoned_says_so() {
        assert_eq!(Amount::parse("/0").unwrap().of("1"), Err(AmountError::Zero));
        assert!(matches!(Amount::parse("*2").unwrap().of("fast"), Err(AmountError::NoNumber(_))));
        let large = "9".repeat(30);
        assert_eq!(Amount::parse("*9999999999999").unwrap().of(&large), Err(AmountError::Large));
        for none in ["2", "-5", "*", "*x", "*1.2.3", "", "* ", "/"] {
            assert_eq!(Amount::parse(none), None, "{none}");
        }
    }

    #[test]
    fn equal_numbers_are_equal_however_written() {
        assert!(equal("1.50", "1.5") && equal("1e3", "1000") && equal("0", "0.0"));
        assert!(!equal("1.5", "1.51") && !equal("1", "x"));
        assert_eq!(compare("9", "10"), Some(std::cmp::Ordering::Less));
    }
}
