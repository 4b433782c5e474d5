use std::fmt;
use std::str::FromStr;
use std::time::SystemTime;

use super::uuid::ParseError;

const NANOS: i64 = 1_000_000_000;
const DAY: i64 = 86_400;
const MIN_SECONDS: i64 = -62_135_596_800; // 0001-01-01T00:00:00Z
const MAX_SECONDS: i64 = 253_402_300_799; // 9999-12-31T23:59:59Z

/// Is a point in time in the years 0001 to 9999, in whole nanoseconds.
#[derive(Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Instant {
    seconds: i64,
    nanos: u32,
}

impl Instant {
    /// Makes an instant of seconds since 1970 and nanoseconds after them, unless it lies outside of the years 0001 to
    /// 9999 or there are 1,000,000,000 nanoseconds or more.
    #[must_use]
    pub const fn new(seconds: i64, nanos: u32) -> Option<Self> {
        if seconds >= MIN_SECONDS && seconds <= MAX_SECONDS && nanos < 1_000_000_000 {
            Some(Self { seconds, nanos })
        } else {
            None
        }
    }

    /// Is an instant that the generator has checked.
    #[doc(hidden)]
    #[must_use]
    pub const fn literal(seconds: i64, nanos: u32) -> Self {
        Self { seconds, nanos }
    }

    /// Is now, by the clock of the system.
    #[must_use]
    pub fn now() -> Self {
        SystemTime::now().into()
    }

    /// Seconds since 1970-01-01T00:00:00Z, rounded down.
    #[must_use]
    pub const fn seconds(&self) -> i64 {
        self.seconds
    }

    /// Nanoseconds after [`seconds`](Self::seconds), 0 to 999,999,999.
    #[must_use]
    pub const fn nanos(&self) -> u32 {
        self.nanos
    }

    /// Reads RFC 3339 with any offset and up to 9 digits of fraction.
    pub(super) fn parse(text: &[u8]) -> Option<Self> {
        let date = Date::fields(text.get(..10)?)?;
        let [b'T', h1, h2, b':', m1, m2, b':', s1, s2, rest @ ..] = text.get(10..)? else {
            return None;
        };
        let (hour, minute, second) = (two(*h1, *h2)?, two(*m1, *m2)?, two(*s1, *s2)?);
        if hour > 23 || minute > 59 || second > 59 {
            return None;
        }
        let (nanos, rest) = match rest {
            [b'.', rest @ ..] => {
                let length = rest.iter().take_while(|c| c.is_ascii_digit()).count();
                if length == 0 || length > 9 {
                    return None;
                }
                let digits = rest[..length].iter().chain(b"00000000").take(9);
                (
                    digits.fold(0, |n, c| n * 10 + u32::from(c - b'0')),
                    &rest[length..],
                )
            }
            rest => (0, rest),
        };
        let offset = match rest {
            [b'Z'] => 0,
            [sign @ (b'+' | b'-'), h1, h2, b':', m1, m2] => {
                let (hours, minutes) = (two(*h1, *h2)?, two(*m1, *m2)?);
                if hours > 23 || minutes > 59 {
                    return None;
                }
                (hours * 3600 + minutes * 60) * if *sign == b'-' { -1 } else { 1 }
            }
            _ => return None,
        };
        let days = i64::from(days_before(date.0, date.1, date.2));
        Self::new(
            days * DAY + hour * 3600 + minute * 60 + second - offset,
            nanos,
        )
    }

    #[allow(clippy::trivially_copy_pass_by_ref)] // as all that append
    pub(super) fn append(&self, out: &mut Vec<u8>) {
        let days = self.seconds.div_euclid(DAY);
        let second = self.seconds.rem_euclid(DAY);
        Date {
            days: i32::try_from(days).unwrap_or(0),
        }
        .append(out);
        out.push(b'T');
        append_two(out, second / 3600);
        out.push(b':');
        append_two(out, second / 60 % 60);
        out.push(b':');
        append_two(out, second % 60);
        append_fraction(out, self.nanos);
        out.push(b'Z');
    }
}

fn two(high: u8, low: u8) -> Option<i64> {
    if high.is_ascii_digit() && low.is_ascii_digit() {
        Some(i64::from(high - b'0') * 10 + i64::from(low - b'0'))
    } else {
        None
    }
}

fn append_two(out: &mut Vec<u8>, n: i64) {
    let n = u8::try_from(n).unwrap_or(0);
    out.extend_from_slice(&[b'0' + n / 10, b'0' + n % 10]);
}

/// Writes the shortest fraction of a second that is exact.
fn append_fraction(out: &mut Vec<u8>, nanos: u32) {
    let mut rest = nanos;
    let mut unit = 100_000_000;
    if rest > 0 {
        out.push(b'.');
    }
    while rest > 0 {
        out.push(b'0' + u8::try_from(rest / unit).unwrap_or(0));
        rest %= unit;
        unit /= 10;
    }
}

impl fmt::Display for Instant {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut text = Vec::with_capacity(30);
        self.append(&mut text);
        f.write_str(&String::from_utf8_lossy(&text))
    }
}

impl fmt::Debug for Instant {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Instant {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        Self::parse(text.as_bytes()).ok_or(ParseError(
            "an instant is written as in 2026-07-15T09:30:00Z",
        ))
    }
}

/// A time of the system outside of the years 0001 to 9999 becomes the first or last instant of these.
impl From<SystemTime> for Instant {
    fn from(time: SystemTime) -> Self {
        let (seconds, nanos) = match time.duration_since(SystemTime::UNIX_EPOCH) {
            Ok(after) => (
                i64::try_from(after.as_secs()).unwrap_or(i64::MAX),
                after.subsec_nanos(),
            ),
            Err(before) => {
                let before = before.duration();
                let seconds = i64::try_from(before.as_secs()).map_or(i64::MIN, |s| -s);
                match before.subsec_nanos() {
                    0 => (seconds, 0),
                    nanos => (seconds.saturating_sub(1), 1_000_000_000 - nanos),
                }
            }
        };
        if seconds > MAX_SECONDS {
            Self {
                seconds: MAX_SECONDS,
                nanos: 999_999_999,
            }
        } else if seconds < MIN_SECONDS {
            Self {
                seconds: MIN_SECONDS,
                nanos: 0,
            }
        } else {
            Self { seconds, nanos }
        }
    }
}

impl From<Instant> for SystemTime {
    fn from(instant: Instant) -> Self {
        let nanos = std::time::Duration::from_nanos(u64::from(instant.nanos));
        let seconds = std::time::Duration::from_secs(instant.seconds.unsigned_abs());
        if instant.seconds < 0 {
            Self::UNIX_EPOCH - seconds + nanos
        } else {
            Self::UNIX_EPOCH + seconds + nanos
        }
    }
}

/// Is a day in the years 0001 to 9999.
#[derive(Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Date {
    days: i32,
}

impl Date {
    /// Makes a date, unless there is no such day or it lies outside of the years 0001 to 9999.
    #[must_use]
    pub const fn new(year: i32, month: u8, day: u8) -> Option<Self> {
        if year < 1
            || year > 9999
            || month < 1
            || month > 12
            || day < 1
            || day > days_of(year, month)
        {
            return None;
        }
        Some(Self {
            days: days_before(year, month, day),
        })
    }

    /// Makes a date of days since 1970-01-01, unless it lies outside of the years 0001 to 9999.
    #[must_use]
    pub const fn from_days(days: i32) -> Option<Self> {
        if (days as i64) < MIN_SECONDS / DAY || (days as i64) > MAX_SECONDS / DAY {
            return None;
        }
        Some(Self { days })
    }

    /// Is a date that the generator has checked.
    #[doc(hidden)]
    #[must_use]
    pub const fn literal(days: i32) -> Self {
        Self { days }
    }

    /// Days since 1970-01-01.
    #[must_use]
    pub const fn days(&self) -> i32 {
        self.days
    }

    /// Its year, month and day.
    #[must_use]
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)] // they are 1 to 12 and 1 to 31
    pub const fn year_month_day(&self) -> (i32, u8, u8) {
        let days = self.days + 719_468; // since 0000-03-01: years begin in March, so that leap days come last
        let era = days.div_euclid(146_097);
        let of_era = days.rem_euclid(146_097);
        let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
        let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
        let m = (5 * of_year + 2) / 153;
        let day = of_year - (153 * m + 2) / 5 + 1;
        let month = if m < 10 { m + 3 } else { m - 9 };
        let year = year_of_era + era * 400 + if month <= 2 { 1 } else { 0 };
        (year, month as u8, day as u8)
    }

    fn fields(text: &[u8]) -> Option<(i32, u8, u8)> {
        let [y1, y2, y3, y4, b'-', m1, m2, b'-', d1, d2] = text else {
            return None;
        };
        let year = i32::try_from(two(*y1, *y2)? * 100 + two(*y3, *y4)?).ok()?;
        let month = u8::try_from(two(*m1, *m2)?).ok()?;
        let day = u8::try_from(two(*d1, *d2)?).ok()?;
        if !(1..=12).contains(&month) || day < 1 || day > days_of(year, month) {
            return None;
        }
        Some((year, month, day))
    }

    /// Reads YYYY-MM-DD.
    pub(super) fn parse(text: &[u8]) -> Option<Self> {
        let (year, month, day) = Self::fields(text)?;
        Self::new(year, month, day)
    }

    #[allow(clippy::trivially_copy_pass_by_ref)] // as all that append
    pub(super) fn append(&self, out: &mut Vec<u8>) {
        let (year, month, day) = self.year_month_day();
        append_two(out, i64::from(year / 100));
        append_two(out, i64::from(year % 100));
        out.push(b'-');
        append_two(out, i64::from(month));
        out.push(b'-');
        append_two(out, i64::from(day));
    }
}

const fn days_of(year: i32, month: u8) -> u8 {
    match month {
        2 if year % 4 == 0 && (year % 100 != 0 || year % 400 == 0) => 29,
        2 => 28,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// Is how many days lie between 1970-01-01 and a day.
const fn days_before(year: i32, month: u8, day: u8) -> i32 {
    let y = if month <= 2 { year - 1 } else { year };
    let m = if month > 2 {
        month as i32 - 3
    } else {
        month as i32 + 9
    };
    let era = y.div_euclid(400);
    let of_era = y.rem_euclid(400);
    let of_year = (153 * m + 2) / 5 + day as i32 - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

impl fmt::Display for Date {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut text = Vec::with_capacity(10);
        self.append(&mut text);
        f.write_str(&String::from_utf8_lossy(&text))
    }
}

impl fmt::Debug for Date {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Date {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        Self::parse(text.as_bytes()).ok_or(ParseError("a date is written as in 2026-07-15"))
    }
}

/// Is a span of time, also a negative one, in whole nanoseconds.
#[derive(Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Duration {
    nanos: i64,
}

impl Duration {
    /// Makes a duration of nanoseconds.
    #[must_use]
    pub const fn from_nanos(nanos: i64) -> Self {
        Self { nanos }
    }

    /// Makes a duration of milliseconds; over 2⁶³ nanoseconds it is the longest one.
    #[must_use]
    pub const fn from_millis(millis: i64) -> Self {
        Self {
            nanos: millis.saturating_mul(1_000_000),
        }
    }

    /// Makes a duration of seconds; over 2⁶³ nanoseconds it is the longest one.
    #[must_use]
    pub const fn from_secs(seconds: i64) -> Self {
        Self {
            nanos: seconds.saturating_mul(NANOS),
        }
    }

    /// All of it in nanoseconds.
    #[must_use]
    pub const fn as_nanos(&self) -> i64 {
        self.nanos
    }

    /// Its seconds, rounded down, and the nanoseconds after them.
    pub(super) fn parts(self) -> (i64, u32) {
        (
            self.nanos.div_euclid(NANOS),
            u32::try_from(self.nanos.rem_euclid(NANOS)).unwrap_or(0),
        )
    }

    pub(super) fn of_parts(seconds: i64, nanos: u32) -> Option<Self> {
        let all = i128::from(seconds) * i128::from(NANOS) + i128::from(nanos);
        i64::try_from(all).ok().map(Self::from_nanos)
    }

    /// Reads ISO 8601: days, hours, minutes and seconds in order.
    pub(super) fn parse(text: &[u8]) -> Option<Self> {
        let (negative, rest) = match text {
            [b'-', rest @ ..] => (true, rest),
            rest => (false, rest),
        };
        let mut rest = rest.strip_prefix(b"P")?;
        let mut units: &[(u8, i128)] = &[(b'D', 86_400), (b'H', 3600), (b'M', 60), (b'S', 1)];
        let mut in_time = false;
        let mut total = None::<i128>;
        while let [first, after @ ..] = rest {
            if *first == b'T' && !in_time && !after.is_empty() {
                in_time = true;
                rest = after;
                continue;
            }
            let length = rest.iter().take_while(|c| c.is_ascii_digit()).count();
            let significant = &rest[..length];
            let zeros = significant.iter().take_while(|c| **c == b'0').count();
            if length == 0 || length - zeros > 19 {
                return None;
            }
            let amount = significant
                .iter()
                .fold(0, |n, c| n * 10 + i128::from(c - b'0'));
            rest = &rest[length..];
            let mut nanos = 0;
            let fraction = rest.first() == Some(&b'.');
            if fraction {
                let digits = rest[1..].iter().take_while(|c| c.is_ascii_digit()).count();
                if digits == 0 || digits > 9 {
                    return None;
                }
                nanos = rest[1..=digits]
                    .iter()
                    .chain(b"00000000")
                    .take(9)
                    .fold(0, |n, c| n * 10 + i128::from(c - b'0'));
                rest = &rest[digits + 1..];
            }
            let [unit, after @ ..] = rest else {
                return None;
            };
            let at = units.iter().position(|u| u.0 == *unit)?;
            if (*unit == b'D') == in_time || (fraction && *unit != b'S') {
                return None;
            }
            total = Some(total.unwrap_or(0) + amount * units[at].1 * i128::from(NANOS) + nanos);
            units = &units[at + 1..];
            rest = after;
        }
        let total = total?;
        i64::try_from(if negative { -total } else { total })
            .ok()
            .map(Self::from_nanos)
    }

    #[allow(clippy::trivially_copy_pass_by_ref)] // as all that append
    pub(super) fn append(&self, out: &mut Vec<u8>) {
        let all = self.nanos.unsigned_abs();
        if self.nanos < 0 {
            out.push(b'-');
        }
        out.extend_from_slice(b"PT");
        out.extend_from_slice((all / 1_000_000_000).to_string().as_bytes());
        append_fraction(out, u32::try_from(all % 1_000_000_000).unwrap_or(0));
        out.push(b'S');
    }
}

impl fmt::Display for Duration {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut text = Vec::with_capacity(24);
        self.append(&mut text);
        f.write_str(&String::from_utf8_lossy(&text))
    }
}

impl fmt::Debug for Duration {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Duration {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        Self::parse(text.as_bytes()).ok_or(ParseError("a duration is written as in PT1.5S"))
    }
}

/// A duration of over 2⁶³ nanoseconds becomes the longest one.
impl From<std::time::Duration> for Duration {
    fn from(d: std::time::Duration) -> Self {
        Self {
            nanos: i64::try_from(d.as_nanos()).unwrap_or(i64::MAX),
        }
    }
}

impl TryFrom<Duration> for std::time::Duration {
    type Error = ParseError;

    fn try_from(d: Duration) -> Result<Self, ParseError> {
        u64::try_from(d.nanos)
            .map(Self::from_nanos)
            .map_err(|_| ParseError("the duration is negative"))
    }
}
