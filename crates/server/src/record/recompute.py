"""Works a trial's comparisons and verdict out again, from the files beside this one. Needs Python 3.8 alone."""
import csv, json
from math import sqrt
from statistics import NormalDist

normal = NormalDist()
plan = json.load(open("plan.json", encoding="utf-8"))
arms = list(csv.DictReader(open("arms.csv", encoding="utf-8")))
n = [int(a["assigned"]) for a in arms]
count = lambda what: [int(a[what]) for a in arms]
letters = [a["arm"] for a in arms]

assigned = {}
for row in csv.DictReader(open("assignments.csv", encoding="utf-8")):
    assigned[row["arm"]] = assigned.get(row["arm"], 0) + 1
assert [assigned.get(l, 0) for l in letters] == n, "the arms are not as large as the assignments say"


def wilson(x, n, level):
    z = normal.inv_cdf(1 - (1 - level) / 2)
    p, centre = x / n, (x / n + z * z / (2 * n)) / (1 + z * z / n)
    half = z * sqrt(p * (1 - p) / n + z * z / (4 * n * n)) / (1 + z * z / n)
    return (0 if x == 0 else centre - half), (1 if x == n else centre + half)


def newcombe(xa, na, xb, nb, level):
    (la, ua), (lb, ub), pa, pb = wilson(xa, na, level), wilson(xb, nb, level), xa / na, xb / nb
    return pb - pa - sqrt((pb - lb) ** 2 + (ua - pa) ** 2), pb - pa + sqrt((ub - pb) ** 2 + (pa - la) ** 2)


def score_p(xa, na, xb, nb):
    p = (xa + xb) / (na + nb)
    if p in (0, 1):
        return 1.0
    z = (xb / nb - xa / na) / sqrt(p * (1 - p) * (1 / na + 1 / nb))
    return 2 * normal.cdf(-abs(z))


k, control, alpha, x = len(arms), plan["control"], plan["alpha"], count("primary")
pairs = [(control, a) for a in range(k) if a != control] if control is not None else [(b, a) for b in range(k) for a in range(b + 1, k)]
p = [score_p(x[b], n[b], x[a], n[a]) for b, a in pairs]
order, adjusted, running = sorted(range(len(p)), key=lambda i: p[i]), [0.0] * len(p), 0.0
for rank, i in enumerate(order):
    running = max(running, (len(p) - rank) * p[i])
    adjusted[i] = min(1.0, running)
limits = [newcombe(x[b], n[b], x[a], n[a], 1 - alpha / len(pairs)) for b, a in pairs]
for (b, a), q, (low, high) in zip(pairs, adjusted, limits):
    print(f"{letters[a]} less {letters[b]}: {x[a] / n[a] - x[b] / n[b]:+.6f} ({low:+.6f} to {high:+.6f}), adjusted p {q:.6g}")


def breached(base, arm):
    for what, margin in (("left", plan["leaving_margin"]), ("complained", plan["complaint_margin"])):
        c = count(what)
        if newcombe(c[base], n[base], c[arm], n[arm], 1 - alpha)[0] > margin:
            return True
    return False


stopped = {s["arm"] for s in json.load(open("seal.json", encoding="utf-8"))["stopped"]}
rate = lambda i: (x[i] / n[i], -i)
if plan["aim"] == "earn":
    open_to = [i for i in range(k) if i not in stopped and not any(breached(j, i) for j in range(k) if j != i)]
    verdict = f"ahead {letters[max(open_to, key=rate)]}" if open_to else "cant_tell"
else:
    winners = []
    for i in set(range(k)) - stopped:
        mine = [(j, q) for j, q in zip(pairs, adjusted) if i in j]
        others = [(b if a == i else a, q) for (b, a), q in mine]
        if others and all(x[i] / n[i] > x[o] / n[o] and q < alpha and not breached(o, i) for o, q in others):
            winners.append(i)
    if winners:
        verdict = f"called {letters[max(winners, key=rate)]}"
    else:
        inside = all(-plan["effect"] < low and high < plan["effect"] for low, high in limits)
        verdict = "too_close_to_matter" if inside and min(adjusted) >= alpha else "cant_tell"
print(verdict)
