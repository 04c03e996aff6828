//! Special functions that stay right at the sizes Rinse meets (counts up to 10,000,000).
//!
//! Tails are computed as tails, never as one minus a cumulative probability, so that a p-value of
//! 1e-40 keeps its digits.

use std::f64::consts::{PI, SQRT_2};

/// Standard normal upper tail, `P(Z > z)`.
#[must_use]
pub fn normal_sf(z: f64) -> f64 {
    0.5 * libm::erfc(z / SQRT_2)
}

/// Standard normal distribution function.
#[must_use]
pub fn normal_cdf(z: f64) -> f64 {
    normal_sf(-z)
}

/// `ln p` and `ln (1 - p)` of the rate with these log odds, each right where it is near 0.
#[must_use]
pub fn log_rates(log_odds: f64) -> (f64, f64) {
    if log_odds > 0.0 {
        let small = (-log_odds).exp().ln_1p();
        (-small, -log_odds - small)
    } else {
        let small = log_odds.exp().ln_1p();
        (log_odds - small, -small)
    }
}

/// The `z` with `P(Z > z) = q`, for `0 < q < 1`.
///
/// Starts from the rational approximation of Abramowitz and Stegun 26.2.23 and is polished by
/// Newton steps on the logarithm of the tail, which converges in the far tail too.
#[must_use]
pub fn normal_upper_quantile(q: f64) -> f64 {
    if q == 0.5 {
        return 0.0;
    }
    if q > 0.5 {
        return -normal_upper_quantile(1.0 - q);
    }
    let t = (-2.0 * q.ln()).sqrt();
    let mut z = t - (2.515_517 + t * (0.802_853 + t * 0.010_328)) / (1.0 + t * (1.432_788 + t * (0.189_269 + t * 0.001_308)));
    for _ in 0..60 {
        let tail = normal_sf(z);
        let density = (-0.5 * z * z).exp() / (2.0 * PI).sqrt();
        let step = (tail / q).ln() * tail / density;
        z += step;
        if step.abs() <= 1e-15 * z.abs().max(1e-3) {
            break;
        }
    }
    z
}

/// `ln n! - ln(sqrt(2 pi n) (n/e)^n)`, the error of Stirling's formula (Loader 2000).
fn stirling_error(n: f64) -> f64 {
    if n < 16.0 {
        return libm::lgamma(n + 1.0) - (n + 0.5) * n.ln() + n - 0.5 * (2.0 * PI).ln();
    }
    let n2 = n * n;
    (1.0 / 12.0 - (1.0 / 360.0 - (1.0 / 1260.0 - (1.0 / 1680.0) / n2) / n2) / n2) / n
}

/// The deviance term `x ln(x/m) + m - x`, without the cancellation of its parts (Loader 2000).
fn deviance(x: f64, m: f64) -> f64 {
    if (x - m).abs() < 0.1 * (x + m) {
        let v = (x - m) / (x + m);
        let mut sum = (x - m) * v;
        let mut term = 2.0 * x * v;
        let mut j = 1.0;
        loop {
            term *= v * v;
            let next = sum + term / (2.0 * j + 1.0);
            if next == sum {
                return next;
            }
            sum = next;
            j += 1.0;
        }
    }
    x * (x / m).ln() + m - x
}

/// `x^a (1-x)^b / B(a, b)`, by the saddle-point form so that large `a` and `b` keep their digits.
fn beta_kernel(a: f64, b: f64, x: f64, y: f64) -> f64 {
    let n = a + b;
    let log = stirling_error(n) - stirling_error(a) - stirling_error(b) - deviance(a, n * x) - deviance(b, n * y);
    log.exp() * (a * b / (2.0 * PI * n)).sqrt()
}

/// The two tails `(I_x(a,b), 1 - I_x(a,b))` of the Beta distribution.
///
/// Continued fraction of Lentz, evaluated on the side where it converges in about
/// `sqrt(max(a, b))` steps; the other side is the complement. Range: `a, b > 0`, `0 < x < 1`.
#[must_use]
pub fn beta_tails(a: f64, b: f64, x: f64) -> (f64, f64) {
    if x <= 0.0 {
        return (0.0, 1.0);
    }
    if x >= 1.0 {
        return (1.0, 0.0);
    }
    let kernel = beta_kernel(a, b, x, 1.0 - x);
    if x <= (a + 1.0) / (a + b + 2.0) {
        let lower = kernel * beta_fraction(a, b, x) / a;
        (lower, 1.0 - lower)
    } else {
        let upper = kernel * beta_fraction(b, a, 1.0 - x) / b;
        (1.0 - upper, upper)
    }
}

fn beta_fraction(a: f64, b: f64, x: f64) -> f64 {
    const TINY: f64 = 1e-300;
    let guard = |v: f64| if v.abs() < TINY { TINY } else { v };
    let mut c = 1.0;
    let mut d = 1.0 / guard(1.0 - (a + b) * x / (a + 1.0));
    let mut h = d;
    // 200,000 steps are far beyond what the largest counts need (about 10,000).
    for step in 1..200_000 {
        let m = f64::from(step);
        let even = m * (b - m) * x / ((a + 2.0 * m - 1.0) * (a + 2.0 * m));
        d = 1.0 / guard(1.0 + even * d);
        c = guard(1.0 + even / c);
        h *= d * c;
        let odd = -(a + m) * (a + b + m) * x / ((a + 2.0 * m) * (a + 2.0 * m + 1.0));
        d = 1.0 / guard(1.0 + odd * d);
        c = guard(1.0 + odd / c);
        let delta = d * c;
        h *= delta;
        if (delta - 1.0).abs() < 1e-16 {
            break;
        }
    }
    h
}

/// The point below which (`upper == false`) or above which (`upper == true`) the Beta(a, b)
/// distribution has probability `q`. The tail asked for is the one solved for.
#[must_use]
pub fn beta_quantile(a: f64, b: f64, q: f64, upper: bool) -> f64 {
    let (mut low, mut high) = (0.0_f64, 1.0_f64);
    let mut x = (a / (a + b)).clamp(1e-300, 1.0 - 1e-16);
    for _ in 0..400 {
        let (lo_tail, hi_tail) = beta_tails(a, b, x);
        let tail = if upper { hi_tail } else { lo_tail };
        let too_far_right = if upper { tail < q } else { tail > q };
        if too_far_right {
            high = x
        } else {
            low = x
        }
        // Newton on the logarithm of the tail; bisection (geometric near zero) when it leaves the bracket.
        let density = beta_kernel(a, b, x, 1.0 - x) / (x * (1.0 - x));
        let slope = if upper { -density } else { density };
        let step = (q / tail).ln() * tail / slope;
        let mut next = x + step;
        if !next.is_finite() || next <= low || next >= high {
            next = if low > 0.0 && high / low > 4.0 {
                (low * high).sqrt()
            } else if low == 0.0 && high < 0.5 {
                high * 0.01
            } else {
                0.5 * (low + high)
            };
        }
        if (next - x).abs() <= 1e-15 * x.min(1.0 - x).max(1e-300) || high - low <= 1e-16 * high {
            return next;
        }
        x = next;
    }
    x
}

/// Upper tail of chi-square with `df` degrees of freedom at `x`: the regularised upper incomplete
/// gamma function `Q(df/2, x/2)`.
#[must_use]
pub fn chi_square_sf(x: f64, df: f64) -> f64 {
    if x <= 0.0 {
        return 1.0;
    }
    if df == 1.0 {
        return libm::erfc((x / 2.0).sqrt());
    }
    let (s, y) = (df / 2.0, x / 2.0);
    let kernel = (s * y.ln() - y - libm::lgamma(s)).exp();
    if y < s + 1.0 {
        let (mut term, mut sum, mut k) = (1.0 / s, 1.0 / s, s);
        while term > sum * 1e-17 {
            k += 1.0;
            term *= y / k;
            sum += term;
        }
        return 1.0 - kernel * sum;
    }
    let mut b = y + 1.0 - s;
    let mut c = 1e300;
    let mut d = 1.0 / b;
    let mut h = d;
    for i in 1..100_000 {
        let i = f64::from(i);
        let an = -i * (i - s);
        b += 2.0;
        d = 1.0 / (an * d + b);
        c = b + an / c;
        h *= d * c;
        if (d * c - 1.0).abs() < 1e-16 {
            break;
        }
    }
    kernel * h
}

/// The digamma function, for `x > 0`: recurrence up to 12, then its asymptotic series (Abramowitz and
/// Stegun 6.3.5 and 6.3.18).
#[must_use]
pub fn digamma(mut x: f64) -> f64 {
    let mut sum = 0.0;
    while x < 12.0 {
        sum -= 1.0 / x;
        x += 1.0;
    }
    let y = 1.0 / (x * x);
    sum + x.ln() - 0.5 / x - y * (1.0 / 12.0 - y * (1.0 / 120.0 - y * (1.0 / 252.0 - y * (1.0 / 240.0 - y * (1.0 / 132.0)))))
}

/// The trigamma function, for `x > 0`: as [`digamma`] (Abramowitz and Stegun 6.4.6 and 6.4.12).
#[must_use]
pub fn trigamma(mut x: f64) -> f64 {
    let mut sum = 0.0;
    while x < 12.0 {
        sum += 1.0 / (x * x);
        x += 1.0;
    }
    let y = 1.0 / (x * x);
    sum + 1.0 / x + 0.5 * y + y / x * (1.0 / 6.0 - y * (1.0 / 30.0 - y * (1.0 / 42.0 - y * (1.0 / 30.0 - y * (5.0 / 66.0)))))
}
