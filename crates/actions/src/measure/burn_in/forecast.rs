//! How long a burn-in takes.

use sieve_core::forecast::{Duration, Forecast, Participant, Pass, SpeedCurve, forecast as passes};
use sieve_core::units::ByteLength;

/// How long it takes to write so much to a disk, and to read it back: two passes over its space, from where what is already
/// there ends.
pub fn forecast(amount: ByteLength, space: ByteLength, curve: &SpeedCurve) -> Forecast {
    let disk = Participant {
        name: "the disk".into(),
        end: amount,
        capacity: space.max(amount),
        curve: curve.clone(),
        link: None,
    };
    let once = passes(&Pass { disks: vec![disk], ..Pass::default() });
    let twice = |duration: Duration| Duration::from_seconds(2.0 * duration.seconds());
    let mut curve = once.curve.clone();
    let back = |(after, bytes): &(Duration, ByteLength)| {
        (Duration::from_seconds(once.likely.seconds() + after.seconds()), amount.plus(*bytes))
    };
    curve.extend(once.curve.iter().skip(1).map(back));
    Forecast { likely: twice(once.likely), cautious: twice(once.cautious), curve, ..once }
}

#[cfg(test)]
mod tests {
    use sieve_core::forecast::CurveSource;
    use sieve_core::units::Rate;

    use super::*;

    #[test]
    fn everything_is_written_and_read() {
        let curve = SpeedCurve::flat(Rate::from_per_second(100.0), CurveSource::Given);
        let found = forecast(ByteLength::new(1000), ByteLength::new(4000), &curve.expect("it has a rate"));
        assert!((found.likely.seconds() - 20.0).abs() < 1e-6, "{found:?}");
        assert!(found.cautious >= found.likely);
        let (seconds, bytes) = found.curve[found.curve.len() - 1];
        assert!((seconds.seconds() - 20.0).abs() < 1e-6 && bytes == ByteLength::new(2000), "{found:?}");
    }
}
