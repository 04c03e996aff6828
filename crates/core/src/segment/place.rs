//! Distances on the earth, and a small gazetteer of the demo's places.

use serde::Serialize;
use utoipa::ToSchema;

/// Mean radius of the earth in kilometres (IUGG).
const RADIUS_KM: f64 = 6_371.008_8;
pub const KM_PER_MILE: f64 = 1.609_344;

/// Great-circle distance in kilometres by the haversine formula, good to half a per cent (the earth
/// is no sphere). Coordinates in degrees.
#[must_use]
pub fn distance_km(a: (f64, f64), b: (f64, f64)) -> f64 {
    let ((lat1, lon1), (lat2, lon2)) = ((a.0.to_radians(), a.1.to_radians()), (b.0.to_radians(), b.1.to_radians()));
    let h =
        libm::pow(libm::sin((lat2 - lat1) / 2.0), 2.0) + libm::cos(lat1) * libm::cos(lat2) * libm::pow(libm::sin((lon2 - lon1) / 2.0), 2.0);
    2.0 * RADIUS_KM * libm::asin(libm::sqrt(h.clamp(0.0, 1.0)))
}

/// A named place.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct Place {
    pub name: &'static str,
    pub country: &'static str,
    pub latitude: f64,
    pub longitude: f64,
}

const fn at(name: &'static str, country: &'static str, latitude: f64, longitude: f64) -> Place {
    Place { name, country, latitude, longitude }
}

/// The places of Skerry Light, all invented; the names are not on any map.
pub const GAZETTEER: &[Place] = &[
    at("Port Skerry", "GB", 58.402, -4.731),
    at("Skerry Rock light", "GB", 58.561, -4.902),
    at("Holmness light", "GB", 59.214, -2.688),
    at("Marram Point light", "GB", 55.087, -1.402),
    at("Sternlicht", "DE", 54.233, 8.120),
    at("Tarnhaven", "GB", 54.480, -3.560),
    at("Great Eddy", "GB", 51.620, -0.410),
    at("Ledgeford", "GB", 52.940, -1.780),
    at("Ballygannet", "IE", 52.130, -8.210),
    at("Dunvoe", "IE", 54.020, -7.030),
    at("Grindholm", "NO", 59.870, 10.480),
    at("Lysvik", "NO", 62.410, 6.020),
    at("Thriftau", "DE", 52.380, 13.190),
    at("Carrow Falls", "US", 42.110, -71.930),
    at("New Marram", "CA", 44.920, -63.210),
    at("Quaymouth", "AU", -33.610, 150.780),
    at("Haven Bluff", "NZ", -36.690, 174.420),
];

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn distance_is_a_metric(p in prop::collection::vec((-90.0f64..90.0, -180.0f64..180.0), 3)) {
            let d = |i: usize, j: usize| distance_km(p[i], p[j]);
            prop_assert!(d(0, 0) < 1e-6);
            prop_assert!((d(0, 1) - d(1, 0)).abs() < 1e-6);
            prop_assert!(d(0, 2) <= d(0, 1) + d(1, 2) + 1e-6);
            prop_assert!(d(0, 1) <= std::f64::consts::PI * RADIUS_KM + 1e-6);
        }
    }

    /// One degree of latitude is a 360th of the way round, wherever it lies; at 60 degrees north a
    /// degree of longitude is half of one at the equator (within the curvature over a degree).
    #[test]
    fn degrees_have_their_length() {
        let degree = std::f64::consts::TAU * RADIUS_KM / 360.0;
        assert!((distance_km((10.0, 20.0), (11.0, 20.0)) - degree).abs() < 1e-6);
        assert!((distance_km((60.0, 0.0), (60.0, 1.0)) - degree / 2.0).abs() < 0.01);
        assert!((distance_km((0.0, 179.5), (0.0, -179.5)) - degree).abs() < 1e-6, "across the date line");
    }
}
