use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::str::FromStr;

use super::error::shortened;
use super::uuid::ParseError;

pub(super) const TOO_LONG: &str = "a decimal has at most 34 digits, and as many after the point";

const MAX_DIGITS: usize = 34;
const MOST: u128 = 10_u128.pow(34) - 1;

/// Is a decimal number of at most 34 digits, with as many of them after the point as it was written with: 1.5 and 1.50
/// are equal.
#[derive(Clone, Copy, Default)]
pub struct Decimal {
    mantissa: i128,
    scale: u8,
}

impl Decimal {
    /// Makes `mantissa` times ten to the power of `-scale`, if it has at most 34 digits, and as many after the point.
    #[must_use]
    pub const fn new(mantissa: i128, scale: u8) -> Option<Self> {
        if mantissa.unsigned_abs() <= MOST && scale as usize <= MAX_DIGITS {
            Some(Self { mantissa, scale })
        } else {
            None
        }
    }

    /// Is a decimal that the generator has checked.
    #[doc(hidden)]
    #[must_use]
    pub const fn literal(mantissa: i128, scale: u8) -> Self {
        Self { mantissa, scale }
    }

    /// Its digits as an integer, without the point.
    #[must_use]
    pub const fn mantissa(&self) -> i128 {
        self.mantissa
    }

    /// How many of its digits are after the point.
    #[must_use]
    pub const fn scale(&self) -> u8 {
        self.scale
    }

    /// Is the same number without zeros at its end.
    pub(super) fn shortest(self) -> Self {
        let Self {
            mut mantissa,
            mut scale,
        } = self;
        while scale > 0 && mantissa % 10 == 0 {
            mantissa /= 10;
            scale -= 1;
        }
        Self { mantissa, scale }
    }

    /// Makes a decimal of digits, each 0 to 9, times ten to a power, where that is exact.
    pub(super) fn scaled(negative: bool, digits: &[u8], power: i64) -> Result<Self, String> {
        let zeros = digits.iter().take_while(|d| **d == 0).count();
        let mut digits = &digits[zeros..];
        if digits.is_empty() {
            let scale = power.clamp(-34, 0).unsigned_abs();
            return Ok(Self {
                mantissa: 0,
                scale: u8::try_from(scale).unwrap_or(0),
            });
        }
        if !(-(1 << 20)..=1 << 20).contains(&power) {
            return Err(format!("a decimal with the exponent {power}"));
        }
        let mut power = power;
        while power < -34 && digits.last() == Some(&0) {
            digits = &digits[..digits.len() - 1];
            power += 1;
        }
        if power < -34 || digits.len() > MAX_DIGITS || power > 34 {
            return Err(TOO_LONG.to_owned());
        }
        let zeros = usize::try_from(power).unwrap_or(0);
        if digits.len() + zeros > MAX_DIGITS {
            return Err(TOO_LONG.to_owned());
        }
        let mut mantissa = digits.iter().fold(0_i128, |n, d| n * 10 + i128::from(*d));
        for _ in 0..zeros {
            mantissa *= 10;
        }
        let scale = u8::try_from(-power.min(0)).unwrap_or(0);
        Ok(Self {
            mantissa: if negative { -mantissa } else { mantissa },
            scale,
        })
    }

    /// Reads the text of a JSON number (RFC 8259, section 6); -0 is refused.
    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let wrong = || {
            format!(
                "a decimal is written as in \"12.50\", found {}",
                shortened(text)
            )
        };
        let long = || format!("{TOO_LONG}, found {}", shortened(text));
        let (negative, rest) = match text.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, text),
        };
        let (number, exponent) = match rest.split_once(['e', 'E']) {
            Some((number, exponent)) => (number, Some(exponent)),
            None => (rest, None),
        };
        let (whole, fraction) = match number.split_once('.') {
            Some((whole, fraction)) if !fraction.is_empty() => (whole, fraction),
            Some(_) => return Err(wrong()),
            None => (number, ""),
        };
        let is_digits = |s: &str| s.bytes().all(|c| c.is_ascii_digit());
        if whole.is_empty()
            || (whole.len() > 1 && whole.starts_with('0'))
            || !is_digits(whole)
            || !is_digits(fraction)
        {
            return Err(wrong());
        }
        let mut power = 0_i64;
        if let Some(exponent) = exponent {
            let amount = exponent.strip_prefix(['+', '-']).unwrap_or(exponent);
            if amount.is_empty() || !is_digits(amount) {
                return Err(wrong());
            }
            let significant = amount.trim_start_matches('0');
            if significant.len() > 7 {
                return Err(long());
            }
            power = significant.parse().unwrap_or(0);
            if power > 1 << 20 {
                return Err(long());
            }
            if exponent.starts_with('-') {
                power = -power;
            }
        }
        let mut digits: Vec<u8> = whole
            .bytes()
            .chain(fraction.bytes())
            .map(|c| c - b'0')
            .collect();
        if negative && digits.iter().all(|d| *d == 0) {
            return Err(format!("a decimal has no -0, found {}", shortened(text)));
        }
        power -= i64::try_from(fraction.len()).unwrap_or(i64::MAX);
        let zeros = digits.iter().take_while(|d| **d == 0).count();
        digits.drain(..zeros);
        if digits.len() > 2000 {
            while digits.last() == Some(&0) {
                digits.pop();
                power += 1;
            }
        }
        Self::scaled(negative, &digits, power)
            .map_err(|why| format!("{why}, found {}", shortened(text)))
    }
}

impl PartialEq for Decimal {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Decimal {}

impl Hash for Decimal {
    fn hash<H: Hasher>(&self, state: &mut H) {
        let shortest = self.shortest();
        shortest.mantissa.hash(state);
        shortest.scale.hash(state);
    }
}

impl PartialOrd for Decimal {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Decimal {
    fn cmp(&self, other: &Self) -> Ordering {
        let unit = |d: &Self| 10_i128.pow(u32::from(d.scale));
        let (a, b) = (unit(self), unit(other));
        let whole = |d: &Self, unit: i128| d.mantissa.div_euclid(unit);
        // The rest of a number is below its unit: scaled to 34 places it is below ten to the 34th.
        let rest = |d: &Self, unit: i128| {
            d.mantissa.rem_euclid(unit) * 10_i128.pow(34 - u32::from(d.scale))
        };
        whole(self, a)
            .cmp(&whole(other, b))
            .then_with(|| rest(self, a).cmp(&rest(other, b)))
    }
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let scale = usize::from(self.scale);
        let sign = if self.mantissa < 0 { "-" } else { "" };
        let digits = format!(
            "{:0>width$}",
            self.mantissa.unsigned_abs(),
            width = scale + 1
        );
        let (whole, fraction) = digits.split_at(digits.len() - scale);
        let point = if scale > 0 { "." } else { "" };
        write!(f, "{sign}{whole}{point}{fraction}")
    }
}

impl fmt::Debug for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Decimal {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        Self::parse(text).map_err(|why| {
            ParseError(if why.contains("34 digits") {
                TOO_LONG
            } else {
                NO_DECIMAL
            })
        })
    }
}

const NO_DECIMAL: &str = "a decimal is written as in 12.50, and has no -0";

impl From<i64> for Decimal {
    fn from(n: i64) -> Self {
        Self {
            mantissa: i128::from(n),
            scale: 0,
        }
    }
}
