"""Works a trial's comparisons and verdict out again, from the files beside this one. Needs Python 3.8 alone."""
import csv, json
from math import exp, lgamma, log, sqrt
from statistics import NormalDist

normal = NormalDist()
plan = json.load(open("plan.json", encoding="utf-8"))
arms = list(csv.DictReader(open("arms.csv", encoding="utf-8")))
sealed_assignments = {}
for row in csv.DictReader(open("assignments.csv", encoding="utf-8")):
    sealed_assignments[row["arm"]] = sealed_assignments.get(row["arm"], 0) + 1
assert [sealed_assignments.get(a["arm"], 0) for a in arms] == [int(a["assigned"]) for a in arms], "the arms are not as large as the assignments say"
arms = [a for a in arms if a["subject"] != "no mail" or not plan["no_mail"]]  # those without mail call nothing
letters = [a["arm"] for a in arms]
alpha, metric = plan["alpha"], plan["metric"]
sign = -1 if metric == "leaving" else 1
FIELDS = ("assigned", "primary", "left", "complained", "bounced", "sum", "squares")
counts = [{f: float(a[f]) for f in FIELDS} for a in arms]


def wilson(x, n, level):
    z = normal.inv_cdf(1 - (1 - level) / 2)
    p, centre = x / n, (x / n + z * z / (2 * n)) / (1 + z * z / n)
    half = z * sqrt(p * (1 - p) / n + z * z / (4 * n * n)) / (1 + z * z / n)
    return (0 if x == 0 else centre - half), (1 if x == n else centre + half)


def newcombe(a, b, what, level):
    xa, na, xb, nb = a[what], a["assigned"], b[what], b["assigned"]
    (la, ua), (lb, ub), pa, pb = wilson(xa, na, level), wilson(xb, nb, level), xa / na, xb / nb
    return pb - pa - sqrt((pb - lb) ** 2 + (ua - pa) ** 2), pb - pa + sqrt((ub - pb) ** 2 + (pa - la) ** 2)


def score_p(xa, na, xb, nb):
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
    return (c["sum"] if metric == "revenue" else c["primary"]) / c["assigned"]


def contrast(a, b, level):
    """b less a on the primary: difference, p, lower, upper."""
    d = level_of(b) - level_of(a)
    if metric != "revenue":
        return (d, score_p(a["primary"], a["assigned"], b["primary"], b["assigned"])) + newcombe(a, b, "primary", level)
    va, vb = [(c["squares"] - c["sum"] ** 2 / c["assigned"]) / (c["assigned"] - 1) / c["assigned"] for c in (a, b)]
    if va + vb == 0:
        return d, 1.0, d, d
    df = (va + vb) ** 2 / (va**2 / (a["assigned"] - 1) + vb**2 / (b["assigned"] - 1))
    half = student_quantile(1 - level, df) * sqrt(va + vb)
    return d, student_p(d / sqrt(va + vb), df), d - half, d + half


def holm(p):
    order, adjusted, running = sorted(range(len(p)), key=lambda i: p[i]), [0.0] * len(p), 0.0
    for rank, i in enumerate(order):
        running = max(running, (len(p) - rank) * p[i])
        adjusted[i] = min(1.0, running)
    return adjusted


def breached(base, arm):
    rails = [("complained", plan["complaint_margin"]), ("bounced", plan["bounce_margin"])]
    if metric != "leaving":
        rails.append(("left", plan["leaving_margin"]))
    return any(margin is not None and newcombe(base, arm, what, 1 - alpha)[0] > margin for what, margin in rails)


k, control = len(arms), plan["control"]
stopped = {s["arm"] for s in json.load(open("seal.json", encoding="utf-8"))["stopped"]}
if plan["crossed"]:
    half = lambda of: {f: sum(counts[i][f] for i in of) for f in FIELDS}
    sides = [(half((0, 1)), half((2, 3))), (half((0, 2)), half((1, 3)))]
    names = plan["crossed"]
else:
    pairs = [(control, a) for a in range(k) if a != control] if control is not None else [(b, a) for b in range(k) for a in range(b + 1, k)]
    sides = [(counts[b], counts[a]) for b, a in pairs]
    names = [f"{letters[a]} less {letters[b]}" for b, a in pairs]
found = [contrast(a, b, 1 - alpha / len(sides)) for a, b in sides]
adjusted = holm([p for _, p, _, _ in found])
for name, (d, _, low, high), q in zip(names, found, adjusted):
    print(f"{name}: {d:+.6f} ({low:+.6f} to {high:+.6f}), adjusted p {q:.6g}")
rate = lambda i: (sign * level_of(counts[i]), -i)
tells = metric != "revenue" or all(c["squares"] - c["sum"] ** 2 / c["assigned"] > 0 for c in counts)
close = tells and all(-plan["effect"] < low and high < plan["effect"] for _, _, low, high in found) and min(adjusted) >= alpha
no_call = "too_close_to_matter" if close else "cant_tell"
if plan["crossed"]:
    arm, called = plan["on_no_call"], False
    for (without, with_it), (d, _, _, _), q, bit in zip(sides, found, adjusted, (2, 1)):
        better, worse, on = (with_it, without, True) if sign * d > 0 else (without, with_it, False)
        if d != 0 and q < alpha and not breached(worse, better):
            arm, called = (arm | bit if on else arm & ~bit), True
    verdict = no_call if not called else "cant_tell" if arm in stopped else f"called {letters[arm]}"
elif plan["aim"] == "earn":
    open_to = [i for i in range(k) if i not in stopped and not any(breached(counts[j], counts[i]) for j in range(k) if j != i)]
    verdict = f"ahead {letters[max(open_to, key=rate)]}" if open_to else "cant_tell"
else:
    winners = []
    for i in set(range(k)) - stopped:
        others = [(b if a == i else a, q) for (b, a), q in zip(pairs, adjusted) if i in (a, b)]
        if others and all(rate(i)[0] > rate(o)[0] and q < alpha and not breached(counts[o], counts[i]) for o, q in others):
            winners.append(i)
    verdict = f"called {letters[max(winners, key=rate)]}" if winners else no_call
print(verdict)
