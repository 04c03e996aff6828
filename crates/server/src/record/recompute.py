"""Works a trial's comparisons and verdict out again, from the files beside this one. Needs Python 3.8 alone."""
import csv, json, os, random
from math import exp, lgamma, log, pi, sqrt
from statistics import NormalDist

normal = NormalDist()
plan = json.load(open("plan.json", encoding="utf-8"))
sealed = json.load(open("seal.json", encoding="utf-8"))
version = (sealed["seal"] or {}).get("rule_version", 0)
by_limits = version >= 5  # since then tests and limits agree, and money goes by the arms drawn again
arms = list(csv.DictReader(open("arms.csv", encoding="utf-8")))
sealed_assignments, without_opens = {}, {}
for row in csv.DictReader(open("assignments.csv", encoding="utf-8")):
    sealed_assignments[row["arm"]] = sealed_assignments.get(row["arm"], 0) + 1
    without_opens[row["arm"]] = without_opens.get(row["arm"], 0) + (row["opens_known"] == "no")
at_look = sealed.get("called_at_look")  # then only those are counted whose window was over by then
assert all(sealed_assignments.get(a["arm"], 0) == int(a["assigned"]) or at_look for a in arms), "the arms are not as large as the assignments say"
assert all(int(a["unknown"]) in (0, without_opens.get(a["arm"], 0)) or at_look for a in arms), "those whose opens can't be known are not those of the assignments"
arms = [a for a in arms if a["subject"] != "no mail" or not plan["no_mail"]]  # those without mail call nothing
letters = [a["arm"] for a in arms]
alpha, metric = plan["alpha"], plan["metric"]
level_at = sealed.get("decided_at") or alpha  # what of alpha it was decided with, where looks may call
sign = -1 if metric in ("leaving", "leaving_topic", "pausing", "withdrawing", "complaining") else 1
FIELDS = ("assigned", "unknown", "primary", "left", "complained", "bounced", "sum", "squares")
counts = [{f: float(a[f]) for f in FIELDS} for a in arms]
stretches, closed = [counts], set()
if os.path.exists("stretches.csv"):
    rows = list(csv.DictReader(open("stretches.csv", encoding="utf-8")))
    numbers = sorted({int(r["stretch"]) for r in rows})
    stretches = [[{f: float(r[f]) for f in FIELDS} for r in rows if int(r["stretch"]) == n] for n in numbers]
    parts = [[int(r["parts"]) for r in rows if int(r["stretch"]) == n] for n in numbers]
    closed = {i for i, p in enumerate(parts[-1]) if p == 0 and any(q[i] for q in parts)}  # stopped on the way


def observed(c):
    """Those of whom the primary can be known."""
    return c["assigned"] - c["unknown"]


def concurrent(base, arm):
    """The people of two arms who came in the same stretch."""
    return [(s[base], s[arm]) for s in stretches if observed(s[base]) and observed(s[arm])]


def weights(strata, of):
    w = [of(a) * of(b) / (of(a) + of(b)) for a, b in strata]
    return [x / sum(w) for x in w]


def wilson(x, n, level):
    z = normal.inv_cdf(1 - (1 - level) / 2)
    p, centre = x / n, (x / n + z * z / (2 * n)) / (1 + z * z / n)
    half = z * sqrt(p * (1 - p) / n + z * z / (4 * n * n)) / (1 + z * z / n)
    return (0 if x == 0 else centre - half), (1 if x == n else centre + half)


def newcombe(strata, what, level):
    d = low = high = 0.0
    of = observed if what == "primary" else lambda c: c["assigned"]  # guardrails are of everybody
    for w, (a, b) in zip(weights(strata, of), strata):
        xa, na, xb, nb = a[what], of(a), b[what], of(b)
        (la, ua), (lb, ub), pa, pb = wilson(xa, na, level), wilson(xb, nb, level), xa / na, xb / nb
        d += w * (pb - pa)
        low += w**2 * ((pb - lb) ** 2 + (ua - pa) ** 2)
        high += w**2 * ((ub - pb) ** 2 + (pa - la) ** 2)
    return d - sqrt(low), d + sqrt(high)


def score_p(strata):
    if len(strata) > 1:  # Cochran, Mantel and Haenszel
        above = variance = 0.0
        for a, b in strata:
            (c, n0), (x, n1) = (a["primary"], observed(a)), (b["primary"], observed(b))
            n = n0 + n1
            above += x - (x + c) * n1 / n
            variance += n0 * n1 * (x + c) * (n - x - c) / (n * n * (n - 1))
        return 2 * normal.cdf(-abs(above) / sqrt(variance)) if variance else 1.0
    ((a, b),) = strata
    xa, na, xb, nb = a["primary"], observed(a), b["primary"], observed(b)
    p = (xa + xb) / (na + nb)
    if p in (0, 1):
        return 1.0
    return 2 * normal.cdf(-abs((xb / nb - xa / na) / sqrt(p * (1 - p) * (1 / na + 1 / nb))))


def few(strata):
    """Has an arm under 5 expected successes, or failures, if both were alike?"""
    expected = [0.0] * 4
    for a, b in strata:
        n, x = observed(a) + observed(b), a["primary"] + b["primary"]
        for i, arm in enumerate((a, b)):
            expected[2 * i] += x * observed(arm) / n
            expected[2 * i + 1] += (n - x) * observed(arm) / n
    return min(expected) < 5


def given_all(strata):
    """How likely each number of b's successes is, given those of each stratum (hypergeometric), and the place of the observed one."""
    least, chances, seen = 0, [1.0], 0
    for a, b in strata:
        na, nb, k = (int(x) for x in (observed(a), observed(b), a["primary"] + b["primary"]))
        low, high = max(0, k - na), min(k, nb)
        choose = lambda n, r: lgamma(n + 1) - lgamma(r + 1) - lgamma(n - r + 1)
        p = [exp(choose(nb, x) + choose(na, k - x) - choose(na + nb, k)) for x in range(low, high + 1)]
        added = [0.0] * (len(chances) + len(p) - 1)
        for i, c in enumerate(chances):
            for j, q in enumerate(p):
                added[i + j] += c * q
        least, chances, seen = least + low, added, seen + int(b["primary"])
    return chances, seen - least


def midp(strata):
    """The exact test given the successes of each stratum: the observed number counts half."""
    chances, at = given_all(strata)
    return min(1.0, 2 * min(sum(chances[:at]) + chances[at] / 2, sum(chances[at + 1 :]) + chances[at] / 2))


def halved(low, high, below):
    for _ in range(56):
        middle = (low + high) / 2
        low, high = (middle, high) if below(middle) else (low, middle)
    return (low + high) / 2


def midp_limits(strata, level):
    """The exact test turned around: the odds ratios that it doesn't reject, as differences."""
    chances, at = given_all(strata)
    if len(chances) < 2:
        return None
    logs = [log(p) if p > 0 else -1e9 for p in chances]

    def more(odds):
        tilted = [l + odds * i for i, l in enumerate(logs)]
        w = [exp(t - max(tilted)) for t in tilted]
        return (sum(w[at + 1 :]) + w[at] / 2) / sum(w)

    def difference(a, b, odds):
        na, nb, k = observed(a), observed(b), a["primary"] + b["primary"]
        logit = lambda p: -1e9 if p <= 0 else 1e9 if p >= 1 else log(p / (1 - p))
        first = halved(max(0, k - nb) / na, min(1, k / na), lambda p: logit((k - na * p) / nb) - logit(p) > odds)
        return (k - na * first) / nb - first

    over = lambda odds: sum(w * difference(a, b, odds) for w, (a, b) in zip(weights(strata, observed), strata))
    tail = (1 - level) / 2
    return tuple(over(halved(-40.0, 40.0, lambda odds: more(odds) < share)) for share in (tail, 1 - tail))


strata_of, amounts = {}, {}  # of revenue: people and amounts by stretch, stratum and arm
if os.path.exists("amounts.csv"):
    for row in csv.DictReader(open("strata.csv", encoding="utf-8")):
        strata_of.setdefault((int(row["stretch"]), int(row["stratum"])), {})[row["arm"]] = int(row["people"])
    for row in csv.DictReader(open("amounts.csv", encoding="utf-8")):
        amounts.setdefault((int(row["stratum"]), row["arm"]), []).append(float(row["amount"]))


def overlap(rng, n, a, b):
    """How many of a people are among b others, both drawn from n."""
    if a > n - a:
        return b - overlap(rng, n, n - a, b)
    if b > n - b:
        return a - overlap(rng, n, a, n - b)
    small, left = min(a, b), max(a, b)
    if not small:
        return 0
    mean = small * left / n
    variance = mean * (1 - left / n) * (n - small) / (n - 1)
    if variance > 25:
        return min(small, max(0, round(rng.gauss(mean, sqrt(variance)))))
    many = left
    for i in range(small):
        left -= rng.randrange(n - i) < left
    return many - left


def redraw(base, arm, level):
    """Draws the arms again within their strata: difference, p, and limits. Its draws are its own, so digits differ a little."""
    rng, groups = random.Random(1), {}
    of = lambda places, at: [v for i in places for v in amounts.get((at[1], letters[i]), [])]
    for at, people in strata_of.items():
        na, nb = (sum(people.get(letters[i], 0) for i in places) for places in (base, arm))
        groups.setdefault(at[0], []).append((na, nb, [(v, False) for v in of(base, at)] + [(v, True) for v in of(arm, at)]))
    blocks = []
    for pools in groups.values():
        na, nb = sum(p[0] for p in pools), sum(p[1] for p in pools)
        if na and nb:
            blocks.append((na * nb / (na + nb), na, nb, pools, sum(v for p in pools for v, _ in p[2]), sum(v * v for p in pools for v, _ in p[2])))
    whole = sum(b[0] for b in blocks)
    variance = lambda n, s, q: max(0.0, (q - s * s / n) / (n - 1)) / n if n > 1 else 0.0

    def added_up(draw):
        d = spread = shifted = 0.0
        for weight, na, nb, pools, total, squares in blocks:
            w, s, q, stayed = weight / whole, 0.0, 0.0, 0
            for pool in pools:
                x, y, z = draw(*pool)
                s, q, stayed = s + x, q + y, stayed + z
            d += w * (s / nb - (total - s) / na)
            spread += w * w * (variance(na, total - s, squares - q) + variance(nb, s, q))
            shifted += w * (stayed / nb - (nb - stayed) / na)
        return d, spread, shifted

    def again(na, nb, others):
        if not na or not nb:
            kept = others if not na else []
            return sum(v for v, _ in kept), sum(v * v for v, _ in kept), nb
        places, room, s, q, stayed = na + nb, nb, 0.0, 0.0, 0
        for v, before in others:
            if rng.randrange(places) < room:
                room, s, q, stayed = room - 1, s + v, q + v * v, stayed + before
            places -= 1
        return s, q, stayed + overlap(rng, places, nb - sum(b for _, b in others), room)

    difference, spread, _ = added_up(lambda na, nb, others: (sum(v for v, b in others if b), sum(v * v for v, b in others if b), nb))
    k = sum(len(p[2]) for b in blocks for p in b[3])
    if not k:
        return difference, 1.0, difference, difference
    draws = max(1000, min(10000, 40_000_000 // k))
    slack = 1e-11 * sum(abs(v) for b in blocks for p in b[3] for v, _ in p[2]) / min(min(b[1], b[2]) for b in blocks)
    shifts, studentised = [], []
    for _ in range(draws):
        d, v, b = added_up(again)
        shifts.append((0.0 if abs(difference - d) <= slack else difference - d) / max(1 - b, 1e-9))
        studentised.append(d / sqrt(v) if v else 0.0)
    p = min(1.0, 2 * (1 + min(sum(s <= 0 for s in shifts), sum(s >= 0 for s in shifts))) / (1 + draws))
    shifts.sort()
    studentised.sort()
    rank = int((1 - level) / 2 * (1 + draws) - 1) + 1
    low, high = shifts[rank - 1], shifts[draws - rank]
    z = normal.inv_cdf(1 - (1 - level) / 2)
    others = difference - sqrt(spread) * max(z, studentised[draws - rank]), difference - sqrt(spread) * min(-z, studentised[rank - 1])
    wide = min(low, others[0]), max(high, others[1])
    return difference, p, low if low > 0 >= wide[0] else wide[0], high if high < 0 <= wide[1] else wide[1]


def incomplete_beta(a, b, x):
    """The regularised incomplete beta function, by Lentz's continued fraction."""
    if x <= 0 or x >= 1:
        return float(x >= 1)
    if x > (a + 1) / (a + b + 2):
        return 1 - incomplete_beta(b, a, 1 - x)
    front = exp(lgamma(a + b) - lgamma(a) - lgamma(b) + a * log(x) + b * log(1 - x)) / a
    c, d = 1.0, 1 / (1 - (a + b) * x / (a + 1))
    f = d
    for m in range(1, 500):
        for top in (m * (b - m) * x / ((a + 2 * m - 1) * (a + 2 * m)), -(a + m) * (a + b + m) * x / ((a + 2 * m) * (a + 2 * m + 1))):
            c, d = 1 + top / c, 1 / (1 + top * d)
            f *= c * d
        if abs(c * d - 1) < 1e-14:
            break
    return front * f


def student_p(t, df):
    return incomplete_beta(df / 2, 0.5, df / (df + t * t))


def student_quantile(q, df):
    low, high = 0.0, 1e6
    for _ in range(200):
        middle = (low + high) / 2
        low, high = (middle, high) if student_p(middle, df) > q else (low, middle)
    return low


def level_of(c):
    return (c["sum"] if metric == "revenue" else c["primary"]) / observed(c)


before = {}  # people by what they did before: share, people, those with the primary
if os.path.exists("before.csv"):
    for row in csv.DictReader(open("before.csv", encoding="utf-8")):
        before.setdefault(row["arm"], []).append((float(row["share"]), int(row["people"]), int(row["primary"])))


def adjusted_contrast(base, arm, level):
    """Lin's difference: difference, p, lower, upper; None where there is nothing to adjust by."""
    sides = [[(x, y, n) for i in places for x, people, k in before.get(letters[i], []) for y, n in ((1.0, k), (0.0, people - k)) if n] for places in (base, arm)]
    sizes = [sum(n for _, _, n in s) for s in sides]
    if min(sizes) < 3:
        return None
    x_mean = sum(x * n for s in sides for x, _, n in s) / sum(sizes)
    means, variance = [], 0.0
    for s, n in zip(sides, sizes):
        mx, my = (sum(g[k] * g[2] for g in s) / n for k in (0, 1))
        about = sum(g[2] * (g[0] - mx) ** 2 for g in s)
        if not about:
            return None
        slope = sum(g[2] * (g[0] - mx) * (g[1] - my) for g in s) / about
        means.append(my + slope * (x_mean - mx))
        for x, y, k in s:
            rest, weight, leverage = y - my - slope * (x - mx), 1 / n + (x_mean - mx) * (x - mx) / about, 1 / n + (x - mx) ** 2 / about
            variance += k * (weight * rest) ** 2 / (1 - leverage)
    d, df = means[1] - means[0], sum(sizes) - 4
    if not variance:
        return None
    half = student_quantile(1 - level, df) * sqrt(variance)
    p, low, high = student_p(d / sqrt(variance), df), d - half, d + half
    return (d, p, low, high) if p < 1 - level else (d, p, min(low, 0.0), max(high, 0.0))


def by_company(found, level, base, arm, strata):
    """The error taken by company, where that is larger."""
    d, p, low, high = found
    effect = max([x["effect"] for x in sealed.get("design") or [] if base and {x["base"], x["arm"]} == {*base, *arm}] + [1.0])
    if effect <= 1 or few(strata):
        return found
    p = min(1.0, 2 * normal.cdf(-normal.inv_cdf(1 - min(max(p / 2, 1e-16), 0.5)) / sqrt(effect)))
    low, high = d - (d - low) * sqrt(effect), d + (high - d) * sqrt(effect)
    return (d, p, low, high) if p < 1 - level else (d, p, min(low, 0.0), max(high, 0.0))


def contrast(strata, level, base=None, arm=None):
    """b less a on the primary: difference, p, lower, upper. base and arm: their places."""
    found = contrast_of_people(strata, level, base, arm)
    return by_company(found, level, base, arm, strata) if by_limits and metric != "revenue" else found


def contrast_of_people(strata, level, base, arm):
    if by_limits and metric == "revenue" and strata_of:
        return redraw(base, arm, level)
    d = sum(w * (level_of(b) - level_of(a)) for w, (a, b) in zip(weights(strata, observed), strata))
    if metric != "revenue" and by_limits and before and not few(strata) and adjusted_contrast(base, arm, level):
        return adjusted_contrast(base, arm, level)
    if metric != "revenue":
        p = midp(strata) if by_limits and few(strata) else score_p(strata)
        low, high = newcombe(strata, "primary", level)
        inverted = midp_limits(strata, level) if version >= 6 and few(strata) else None
        if inverted:  # no narrower than Newcombe's, but where those alone would take in 0
            (exact_low, exact_high), (low, high) = inverted, (min(low, inverted[0]), max(high, inverted[1]))
            low = exact_low if exact_low > 0 >= low else low
            high = exact_high if exact_high < 0 <= high else high
        if by_limits and p >= 1 - level:  # what isn't rejected isn't excluded
            low, high = min(low, 0.0), max(high, 0.0)
        return d, p, low, high
    spread = lambda c: (c["squares"] - c["sum"] ** 2 / c["assigned"]) / (c["assigned"] - 1) / c["assigned"]  # money is known of everybody
    v = [(w**2 * spread(c), c["assigned"] - 1) for w, s in zip(weights(strata, observed), strata) for c in s]
    total = sum(x for x, _ in v)
    if total == 0:
        return d, 1.0, d, d
    df = total**2 / sum(x**2 / n for x, n in v)
    half = student_quantile(1 - level, df) * sqrt(total)
    return d, student_p(d / sqrt(total), df), d - half, d + half


def holm(p):
    order, adjusted, running = sorted(range(len(p)), key=lambda i: p[i]), [0.0] * len(p), 0.0
    for rank, i in enumerate(order):
        running = max(running, (len(p) - rank) * p[i])
        adjusted[i] = min(1.0, running)
    return adjusted


def breached(strata):
    rails = [("bounced", plan["bounce_margin"])]
    if metric != "complaining":
        rails.append(("complained", plan["complaint_margin"]))
    if metric != "leaving":
        rails.append(("left", plan["leaving_margin"]))
    return any(margin is not None and newcombe(strata, what, 1 - alpha)[0] > margin for what, margin in rails)


k, control = len(arms), plan["control"]
stopped = {s["arm"] for s in sealed["stopped"]} | closed


def spread_of(c):
    if metric == "revenue":
        return (c["squares"] - c["sum"] ** 2 / c["assigned"]) / (c["assigned"] - 1) / c["assigned"]
    p = c["primary"] / observed(c)
    return p * (1 - p) / observed(c)


def chi_square_3(x):
    """The chance that a chi-square with three degrees of freedom exceeds x."""
    return 2 * normal.cdf(-sqrt(x)) + sqrt(2 * x / pi) * exp(-x / 2)


by_arm = False  # two changes that don't add up: each arm against what goes out on no call
if plan["crossed"] and by_limits:
    variance = sum(spread_of(c) for c in counts)
    turn = level_of(counts[3]) - level_of(counts[1]) - level_of(counts[2]) + level_of(counts[0])
    by_arm = variance > 0 and 2 * normal.cdf(-abs(turn) / sqrt(variance)) < alpha
if plan["crossed"]:
    half = lambda of: {f: sum(counts[i][f] for i in of) for f in FIELDS}
    sides = [[(half((0, 1)), half((2, 3)))], [(half((0, 2)), half((1, 3)))]]
    places = [((0, 1), (2, 3)), ((0, 2), (1, 3))]
    names = plan["crossed"]
else:
    pairs = [(control, a) for a in range(k) if a != control] if control is not None else [(b, a) for b in range(k) for a in range(b + 1, k)]
    pairs = [p for p in pairs if concurrent(*p)]  # those that were open at the same time
    sides = [concurrent(*p) for p in pairs]
    places = [((b,), (a,)) for b, a in pairs]
    names = [f"{letters[a]} less {letters[b]}" for b, a in pairs]
found = [contrast(s, 1 - level_at / len(sides), *p) for s, p in zip(sides, places)]
adjusted = holm([p for _, p, _, _ in found])
for name, (d, _, low, high), q in zip(names, found, adjusted):
    print(f"{name}: {d:+.6f} ({low:+.6f} to {high:+.6f}), adjusted p {q:.6g}")
rate = lambda i: (sign * level_of(counts[i]), -i)
tells = metric != "revenue" or all(c["squares"] - c["sum"] ** 2 / c["assigned"] > 0 for c in counts)
close = tells and all(-plan["effect"] < low and high < plan["effect"] for _, _, low, high in found) and min(adjusted) >= level_at
no_call = "too_close_to_matter" if close else "cant_tell"
excludes = lambda low, high: not by_limits or low > 0 or high < 0
if by_arm:
    low, high = 0.0, 40.0
    for _ in range(80):
        z = (low + high) / 2
        low, high = (z, high) if chi_square_3(z * z) > alpha else (low, z)
    usual, winners = plan["on_no_call"], {}
    for i in set(range(k)) - {usual}:
        d, p, low, high = contrast(concurrent(usual, i), 1 - 2 * normal.cdf(-z), (usual,), (i,))
        print(f"{letters[i]} less {letters[usual]}: {d:+.6f} ({low:+.6f} to {high:+.6f})")
        if i not in stopped and sign * d > 0 and excludes(low, high) and not breached(concurrent(usual, i)):
            winners[i] = sign * d
    verdict = f"called {letters[max(winners, key=winners.get)]}" if winners else "cant_tell"
elif plan["crossed"]:
    arm, called = plan["on_no_call"], False
    for [(without, with_it)], (d, _, low, high), q, bit in zip(sides, found, adjusted, (2, 1)):
        better, worse, on = (with_it, without, True) if sign * d > 0 else (without, with_it, False)
        if d != 0 and q < alpha and excludes(low, high) and not breached([(worse, better)]):
            arm, called = (arm | bit if on else arm & ~bit), True
    verdict = no_call if not called else "cant_tell" if arm in stopped else f"called {letters[arm]}"
elif plan["aim"] == "no_worse":
    (b, a), (d, _, low, high) = pairs[0], found[0]
    arm, z_level = (a if b == control else b), normal.inv_cdf(1 - alpha / 2)
    lost = -sign * d if b == control else sign * d
    if before and not few(sides[0]) and adjusted_contrast((b,), (a,), 1 - alpha):
        error = (high - low) / 2 / z_level
    else:
        share = lambda c: c["primary"] / observed(c)
        widest = max([x["effect"] for x in sealed.get("design") or []] + [1.0])
        error = sqrt(widest) * sqrt(sum(w * w * (share(x) * (1 - share(x)) / observed(x)) for w, s in zip(weights(sides[0], observed), sides[0]) for x in s))
    rises = (a == arm) == (sign < 0)
    shown = error > 0 and normal.cdf((lost - plan["effect"]) / error) < alpha / 2 and (high if rises else -low) < plan["effect"]
    print(f"{letters[arm]} loses {lost:+.6f}, {lost + z_level * error:+.6f} for certain")
    verdict = f"no_worse {letters[arm]}" if shown and arm not in stopped and not breached(concurrent(control, arm)) else "cant_tell"
elif plan["aim"] == "earn":
    open_to = [i for i in range(k) if i not in stopped and not any(breached([(counts[j], counts[i])]) for j in range(k) if j != i)]
    verdict = f"ahead {letters[max(open_to, key=rate)]}" if open_to else "cant_tell"
else:
    winners = {}
    now_open = {i for i in range(k) if i not in closed and observed(counts[i])}
    for i in set(range(k)) - stopped:
        # all that are open have to have been compared with it: the control, or all others
        needed = {o for o in now_open - {i} if control is None or control in (i, o)} if by_limits else set()
        if needed - {x for pair in pairs if i in pair for x in pair}:
            continue
        # by how much it is ahead of each of its comparators
        ahead = [
            (sign * (d if a == i else -d), q < level_at and excludes(low, high), b if a == i else a)
            for (b, a), (d, _, low, high), q in zip(pairs, found, adjusted)
            if i in (a, b)
        ]
        if ahead and all(by > 0 and sure and not breached(concurrent(o, i)) for by, sure, o in ahead):
            winners[i] = min(by for by, _, _ in ahead)
    verdict = f"called {letters[max(winners, key=lambda i: (winners[i], -i))]}" if winners else no_call
if verdict.startswith(("called", "no_worse")) and sealed.get("ended_on_sight"):
    verdict = "cant_tell"
print(verdict)
