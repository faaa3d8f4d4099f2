//! An hour as somebody types it: the next time that a clock on the wall shows it, or so long from now.

use jiff::civil::{DateTime, Time};
use jiff::{SignedDuration, Zoned};
use lantern_host::config::Span;

/// An hour as it was typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Hour {
    /// The next time that it is that time of day.
    OfDay(Time),
    /// That day and time.
    At(DateTime),
    /// So long from now.
    In(SignedDuration),
}

impl std::str::FromStr for Hour {
    type Err = String;

    fn from_str(text: &str) -> Result<Hour, String> {
        if let Some(span) = text.strip_prefix('+') {
            let span: Span = span.parse()?;
            let seconds = i64::try_from(span.0.as_secs()).map_err(|_| "that is too long")?;
            return Ok(Hour::In(SignedDuration::from_secs(seconds)));
        }
        if let Ok(at) = text.replace(' ', "T").parse::<DateTime>()
            && text.len() > "2026-05-04".len()
        {
            return Ok(Hour::At(at));
        }
        let of_day = text.contains(':').then(|| text.parse::<Time>().ok());
        of_day
            .flatten()
            .map(Hour::OfDay)
            .ok_or_else(|| "write it as 04:00, as 2026-05-04 04:00, or as +2h from now".into())
    }
}

impl Hour {
    /// When that is, as seen from a time: where a clock is put forward over it, as much later; where it comes twice, the first time.
    ///
    /// None where there is no such time any more.
    pub fn after(&self, now: &Zoned) -> Option<Zoned> {
        let zone = now.time_zone().clone();
        match self {
            Hour::In(span) => now.checked_add(*span).ok(),
            Hour::At(at) => at.to_zoned(zone).ok().filter(|at| at > now),
            Hour::OfDay(time) => {
                let today = now.date();
                let days = [Some(today), today.tomorrow().ok()];
                let all = days.into_iter().flatten();
                let mut all =
                    all.filter_map(|day| day.to_datetime(*time).to_zoned(zone.clone()).ok());
                all.find(|at| at > now)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::tz::TimeZone;

    #[test]
    fn the_next_time_that_a_clock_shows_it() {
        // Clocks go forward on the last Sunday in March at two, and back on the last in October at three.
        let zone = TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
        let now = |text: &str| {
            text.parse::<DateTime>()
                .unwrap()
                .to_zoned(zone.clone())
                .unwrap()
        };
        let cases = [
            ("2026-05-04T23:10", "04:00", "2026-05-05T04:00:00+02:00"),
            ("2026-05-04T03:59", "04:00", "2026-05-04T04:00:00+02:00"),
            ("2026-05-04T04:00", "04:00", "2026-05-05T04:00:00+02:00"),
            ("2026-05-04T04:00", "+90m", "2026-05-04T05:30:00+02:00"),
            (
                "2026-05-04T04:00",
                "2026-05-06 03:30",
                "2026-05-06T03:30:00+02:00",
            ),
            // That night there is no half past two.
            ("2026-03-28T23:00", "02:30", "2026-03-29T03:30:00+02:00"),
            // That night there are two of them.
            ("2026-10-24T23:00", "02:30", "2026-10-25T02:30:00+02:00"),
        ];
        for (from, typed, comes) in cases {
            let hour: Hour = typed.parse().unwrap();
            let at = hour.after(&now(from)).unwrap();
            assert_eq!(
                at.timestamp(),
                comes.parse().unwrap(),
                "{typed} after {from}"
            );
        }
        let past: Hour = "2026-05-01 04:00".parse().unwrap();
        assert_eq!(past.after(&now("2026-05-04T04:00")), None);
        for odd in [
            "",
            "4",
            "soon",
            "25:00",
            "+",
            "+x",
            "2026-05-04",
            "04:00:99",
        ] {
            assert!(odd.parse::<Hour>().is_err(), "{odd}");
        }
    }
}
