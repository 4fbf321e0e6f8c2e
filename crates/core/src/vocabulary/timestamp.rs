//! Moments in time, to the second, in UTC; and spans between them.

use crate::error::{Error, Result};
use std::fmt;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use x509_cert::der::asn1::{GeneralizedTime, UtcTime};
use x509_cert::time::Time;

/// Seconds in a day.
pub const DAY: i64 = 86_400;

/// A moment: whole seconds since 1970-01-01T00:00:00Z, never negative.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Timestamp(i64);

impl Timestamp {
    /// 9999-12-31T23:59:59Z, "no well-defined expiration" (RFC 5280 §4.1.2.5).
    pub const LAST: Timestamp = Timestamp(253_402_300_799);

    /// From seconds since 1970, clamped to what a certificate can say.
    pub const fn from_unix(seconds: i64) -> Timestamp {
        Timestamp(match seconds {
            ..0 => 0,
            later if later > Timestamp::LAST.0 => Timestamp::LAST.0,
            seconds => seconds,
        })
    }

    /// Seconds since 1970.
    pub fn unix(self) -> i64 {
        self.0
    }

    /// This moment moved by a number of seconds.
    ///
    /// ```
    /// use tamga_core::vocabulary::timestamp::{DAY, Timestamp};
    ///
    /// let day: Timestamp = "2026-11-24".parse()?;
    /// assert_eq!(day.plus(DAY).date(), "2026-11-25");
    /// assert_eq!(Timestamp::LAST.plus(DAY), Timestamp::LAST, "no later time can be written into a certificate");
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    #[must_use]
    pub fn plus(self, seconds: i64) -> Timestamp {
        Timestamp::from_unix(self.0.saturating_add(seconds))
    }

    /// Of a date as HTTP writes it (RFC 9110 §5.6.7); None if it is none.
    pub fn from_http_date(text: &str) -> Option<Timestamp> {
        let format = time::macros::format_description!(
            "[weekday repr:short], [day] [month repr:short] [year] [hour]:[minute]:[second] GMT"
        );
        let read = time::PrimitiveDateTime::parse(text.trim(), format).ok()?;
        Some(Timestamp(read.assume_utc().unix_timestamp()))
    }

    /// Whole days from `now` until this moment, rounded down; negative once it has passed.
    ///
    /// ```
    /// use tamga_core::vocabulary::timestamp::Timestamp;
    ///
    /// let (now, end) = ("2026-11-24T12:00:00Z".parse::<Timestamp>()?, "2026-11-26".parse::<Timestamp>()?);
    /// assert_eq!(end.days_after(now), 1);
    /// assert_eq!(now.days_after(end), -2);
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn days_after(self, now: Timestamp) -> i64 {
        (self.0 - now.0).div_euclid(DAY)
    }

    /// The calendar day alone, `2026-11-24`.
    pub fn date(self) -> String {
        self.to_string().chars().take(10).collect()
    }

    /// As X.509 writes it: UTCTime up to 2049, GeneralizedTime from 2050 (RFC 5280 §4.1.2.5).
    pub fn to_x509(self) -> Time {
        let since = std::time::Duration::from_secs(self.0.unsigned_abs());
        match UtcTime::from_unix_duration(since) {
            Ok(t) => Time::UtcTime(t),
            Err(_) => GeneralizedTime::from_unix_duration(since).map(Time::GeneralTime).unwrap_or(Time::INFINITY),
        }
    }

    /// From either of X.509's two spellings.
    pub fn from_x509(time: &Time) -> Timestamp {
        Timestamp::from_unix(i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX))
    }
}

impl std::str::FromStr for Timestamp {
    type Err = Error;

    /// Reads RFC 3339, such as `2026-11-24T08:00:00Z`; a bare date means its first second.
    ///
    /// ```
    /// use tamga_core::vocabulary::timestamp::Timestamp;
    ///
    /// let noon = "2026-11-24T12:00:00Z".parse::<Timestamp>()?;
    /// assert_eq!(noon.unix() - "2026-11-24".parse::<Timestamp>()?.unix(), 12 * 3_600);
    /// assert!("tomorrow".parse::<Timestamp>().is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    fn from_str(typed: &str) -> Result<Timestamp> {
        let whole = if typed.len() == 10 { format!("{typed}T00:00:00Z") } else { typed.to_owned() };
        OffsetDateTime::parse(&whole, &Rfc3339)
            .ok()
            .filter(|t| t.unix_timestamp() >= 0)
            .map(|t| Timestamp(t.unix_timestamp()))
            .ok_or_else(|| Error::Word {
                what: "moment",
                typed: typed.to_owned(),
                accepted: "a date such as 2026-11-24 or 2026-11-24T08:00:00Z".into(),
            })
    }
}

impl fmt::Display for Timestamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Ok(t) = OffsetDateTime::from_unix_timestamp(self.0) else { return f.write_str("9999-12-31T23:59:59Z") };
        // RFC 3339 by hand: the library's formatter takes three times as long, and a list has two times a row.
        let (year, month, day) = t.to_calendar_date();
        let (hour, minute, second) = t.to_hms();
        let mut out = *b"0000-00-00T00:00:00Z";
        let two = |n: u8| [b'0' + n / 10, b'0' + n % 10];
        let (century, year) = (year.clamp(0, 9999) / 100, year.clamp(0, 9999) % 100);
        let halves = [u8::try_from(century).unwrap_or_default(), u8::try_from(year).unwrap_or_default()];
        let parts =
            [(0, halves[0]), (2, halves[1]), (5, u8::from(month)), (8, day), (11, hour), (14, minute), (17, second)];
        for (at, n) in parts {
            out[at..at + 2].copy_from_slice(&two(n));
        }
        f.pad(std::str::from_utf8(&out).unwrap_or_default())
    }
}

/// A length of time in seconds, as typed with a unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Span(i64);

impl Span {
    /// So many days of 86,400 seconds.
    pub const fn days(n: i64) -> Span {
        Span(n * DAY)
    }

    /// So many seconds, at least one.
    pub fn seconds_of(n: i64) -> Span {
        Span(n.max(1))
    }

    /// In days of 86,400 seconds, without what is left.
    pub fn whole_days(self) -> i64 {
        self.0 / DAY
    }

    /// In seconds.
    pub fn seconds(self) -> i64 {
        self.0
    }
}

impl fmt::Display for Span {
    /// As it would be typed: in the largest unit of which it is a whole number.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let units = [("d", DAY), ("h", 3600), ("m", 60)];
        let (unit, seconds) = units.into_iter().find(|(_, s)| self.0 % s == 0).unwrap_or(("m", 60));
        write!(f, "{}{unit}", self.0 / seconds)
    }
}

impl std::str::FromStr for Span {
    type Err = Error;

    /// Reads a number and one unit: `m` minutes, `h` hours, `d` days, `w` weeks, `y` years of 365 days.
    ///
    /// ```
    /// use tamga_core::vocabulary::timestamp::Span;
    ///
    /// assert_eq!("90d".parse::<Span>()?, Span::days(90));
    /// assert!("90".parse::<Span>().is_err(), "a unit is needed");
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    fn from_str(typed: &str) -> Result<Span> {
        let wrong = || Error::Word {
            what: "time span",
            typed: typed.to_owned(),
            accepted: "a number and a unit: 30m, 12h, 90d, 4w or 1y".into(),
        };
        let unit = typed.chars().last().ok_or_else(wrong)?;
        let factor = match unit {
            'm' => 60,
            'h' => 3_600,
            'd' => DAY,
            'w' => 7 * DAY,
            'y' => 365 * DAY,
            _ => return Err(wrong()),
        };
        let number: i64 = typed[..typed.len() - 1].parse().map_err(|_| wrong())?;
        match number.checked_mul(factor) {
            Some(seconds) if number > 0 && seconds <= Timestamp::LAST.0 => Ok(Span(seconds)),
            _ => Err(wrong()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::str::FromStr;

    #[test]
    fn x509_changes_its_spelling_in_2050() {
        let before = Timestamp::from_str("2049-12-31T23:59:59Z").unwrap();
        assert!(matches!(before.to_x509(), Time::UtcTime(_)));
        assert!(matches!(before.plus(1).to_x509(), Time::GeneralTime(_)));
        for m in [before, before.plus(1), Timestamp::LAST, Timestamp::from_unix(0)] {
            assert_eq!(Timestamp::from_x509(&m.to_x509()), m);
        }
    }

    #[test]
    fn spans_take_one_unit() {
        assert_eq!(Span::from_str("90d").unwrap().seconds(), 90 * DAY);
        assert_eq!(Span::from_str("1y").unwrap(), Span::days(365));
        for bad in ["", "d", "90", "-3d", "0d", "9 d", "1.5h", "99999999999999y", "3é"] {
            assert!(Span::from_str(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn days_round_down() {
        let now = Timestamp::from_str("2026-11-24").unwrap();
        assert_eq!(now.plus(DAY - 1).days_after(now), 0);
        assert_eq!(now.plus(-1).days_after(now), -1);
        assert_eq!(now.date(), "2026-11-24");
    }
}
