"""Works a trial's comparisons and verdict out again, from the files beside this one. Needs Python 3.8 alone."""
import csv, json, os
from math import exp, lgamma, log, sqrt
from statistics import NormalDist

normal = NormalDist()
plan = json.load(open("plan.json", encoding="utf-8"))
arms = list(csv.DictReader(open("arms.csv", encoding="utf-8")))
sealed_assignments, without_opens = {}, {}
for row in csv.DictReader(open("assignments.csv", encoding="utf-8")):
    sealed_assignments[row["arm"]] = sealed_assignments.get(row["arm"], 0) + 1
    without_opens[row["arm"]] = without_opens.get(row["arm"], 0) + (row["opens_known"] == "no")
assert [sealed_assignments.get(a["arm"], 0) for a in arms] == [int(a["assigned"]) for a in arms], "the arms are not as large as the assignments say"
assert all(int(a["unknown"]) in (0, without_opens.get(a["arm"], 0)) for a in arms), "those whose opens can't be known are not those of the assignments"
arms = [a for a in arms if a["subject"] != "no mail" or not plan["no_mail"]]  # those without mail call nothing
letters = [a["arm"] for a in arms]
alpha, metric = plan["alpha"], plan["metric"]
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


def contrast(strata, level):
    """b less a on the primary: difference, p, lower, upper."""
    d = sum(w * (level_of(b) - level_of(a)) for w, (a, b) in zip(weights(strata, observed), strata))
    if metric != "revenue":
        return (d, score_p(strata)) + newcombe(strata, "primary", level)
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
stopped = {s["arm"] for s in json.load(open("seal.json", encoding="utf-8"))["stopped"]} | closed
if plan["crossed"]:
    half = lambda of: {f: sum(counts[i][f] for i in of) for f in FIELDS}
    sides = [[(half((0, 1)), half((2, 3)))], [(half((0, 2)), half((1, 3)))]]
    names = plan["crossed"]
else:
    pairs = [(control, a) for a in range(k) if a != control] if control is not None else [(b, a) for b in range(k) for a in range(b + 1, k)]
    pairs = [p for p in pairs if concurrent(*p)]  # those that were open at the same time
    sides = [concurrent(*p) for p in pairs]
    names = [f"{letters[a]} less {letters[b]}" for b, a in pairs]
found = [contrast(s, 1 - alpha / len(sides)) for s in sides]
adjusted = holm([p for _, p, _, _ in found])
for name, (d, _, low, high), q in zip(names, found, adjusted):
    print(f"{name}: {d:+.6f} ({low:+.6f} to {high:+.6f}), adjusted p {q:.6g}")
rate = lambda i: (sign * level_of(counts[i]), -i)
tells = metric != "revenue" or all(c["squares"] - c["sum"] ** 2 / c["assigned"] > 0 for c in counts)
close = tells and all(-plan["effect"] < low and high < plan["effect"] for _, _, low, high in found) and min(adjusted) >= alpha
no_call = "too_close_to_matter" if close else "cant_tell"
if plan["crossed"]:
    arm, called = plan["on_no_call"], False
    for [(without, with_it)], (d, _, _, _), q, bit in zip(sides, found, adjusted, (2, 1)):
        better, worse, on = (with_it, without, True) if sign * d > 0 else (without, with_it, False)
        if d != 0 and q < alpha and not breached([(worse, better)]):
            arm, called = (arm | bit if on else arm & ~bit), True
    verdict = no_call if not called else "cant_tell" if arm in stopped else f"called {letters[arm]}"
elif plan["aim"] == "earn":
    open_to = [i for i in range(k) if i not in stopped and not any(breached([(counts[j], counts[i])]) for j in range(k) if j != i)]
    verdict = f"ahead {letters[max(open_to, key=rate)]}" if open_to else "cant_tell"
else:
    winners = {}
    for i in set(range(k)) - stopped:
        # by how much it is ahead of each of its comparators
        ahead = [(sign * (d if a == i else -d), q, b if a == i else a) for (b, a), (d, _, _, _), q in zip(pairs, found, adjusted) if i in (a, b)]
        if ahead and all(by > 0 and q < alpha and not breached(concurrent(o, i)) for by, q, o in ahead):
            winners[i] = min(by for by, _, _ in ahead)
    verdict = f"called {letters[max(winners, key=lambda i: (winners[i], -i))]}" if winners else no_call
print(verdict)
