"""Works an hour trial's reading out again, from the files beside this one. Needs Python 3.8 alone."""
import csv, json, random
from math import exp, lgamma, log, sqrt

plan = json.load(open("plan.json", encoding="utf-8"))
hours, alpha = plan["hours"], plan["alpha"]
place = {h: i for i, h in enumerate(hours)}
k = len(hours)
everybody = list(csv.DictReader(open("drawn.csv", encoding="utf-8")))
rounds = {}
for r in everybody:
    n, lost = rounds.get(r["round"], (0, 0))
    rounds[r["round"]] = (n + 1, lost + (r["lost"] == "yes"))
left_out = {n for n, (drawn, lost) in rounds.items() if lost > plan["fail_loss"] * drawn}
own = plan["confirms"] if (plan.get("confirms") or {}).get("own") else None
if own:
    # Each person's own hour against the best one for all: whichever somebody's is, it stands for all.
    other = next(h for h in hours if h != own["best"])
    for r in everybody:
        r["hour"] = r["hour"] if int(r["hour"]) == own["best"] else str(other)
    hours = [other, own["best"]]
    place, k = {h: i for i, h in enumerate(hours)}, 2
rows = [r for r in everybody if r["round"] not in left_out and (plan["metric"] != "human_open" or r["opens_known"] == "yes")]


def upper_chi_square(x, df):
    """Upper tail, by the series or the continued fraction of the incomplete gamma function."""
    a, x = df / 2, x / 2
    if x <= 0:
        return 1.0
    front = exp(-x + a * log(x) - lgamma(a))
    if x < a + 1:
        term = total = 1 / a
        n = a
        while term > total * 1e-16:
            n += 1
            term *= x / n
            total += term
        return 1 - total * front
    b, c = x + 1 - a, 1e300
    d = h = 1 / b
    for i in range(1, 10000):
        an = -i * (i - a)
        b += 2
        d = 1 / (an * d + b)
        c = b + an / c
        h *= d * c
        if abs(d * c - 1) < 1e-15:
            break
    return h * front


def solved(m, v):
    """The x of m x = v, by elimination; None where m is singular."""
    n = len(v)
    a = [row[:] + [x] for row, x in zip(m, v)]
    for i in range(n):
        pivot = max(range(i, n), key=lambda r: abs(a[r][i]))
        if abs(a[pivot][i]) < 1e-12:
            return None
        a[i], a[pivot] = a[pivot], a[i]
        for r in range(i + 1, n):
            f = a[r][i] / a[i][i]
            for j in range(i, n + 1):
                a[r][j] -= f * a[i][j]
    x = [0.0] * n
    for i in reversed(range(n)):
        x[i] = (a[i][n] - sum(a[i][j] * x[j] for j in range(i + 1, n))) / a[i][i]
    return x


strata, people = {}, {}
stratum = [strata.setdefault((r["round"], r["zone"]), len(strata)) for r in rows]
person = [people.setdefault(r["contact"], len(people)) for r in rows]
hour = [place[int(r["hour"])] for r in rows]
y = [float(r["did"] == "yes") for r in rows]
sizes, share = [0] * len(strata), [[0.0] * k for _ in strata]
for s, h in zip(stratum, hour):
    sizes[s] += 1
    share[s][h] += 1
share = [[x / n for x in of] for of, n in zip(share, sizes)]
n = len(people)


def within(values):
    mean = [0.0] * len(strata)
    for s, v in zip(stratum, values):
        mean[s] += v / sizes[s]
    return [v - mean[s] for s, v in zip(stratum, values)]


def clustered(weights, hour):
    by = [[0.0] * k for _ in range(n)]
    for p, s, h, w in zip(person, stratum, hour, weights):
        by[p][h] += w
        for j in range(k):
            by[p][j] -= w * share[s][j]
    total = [sum(u[j] for u in by) for j in range(k)]
    products = [[n / (n - 1) * sum(u[i] * u[j] for u in by) for j in range(k)] for i in range(k)]
    return total, products


def statistic(e, hour):
    u, v = clustered(e, hour)
    x = solved([row[:-1] for row in v[:-1]], u[:-1])
    return None if x is None else sum(a * b for a, b in zip(u, x))


def alike(what):
    """Of something that must be alike at all hours: its p, and how far the hours lie apart."""
    values = within([float(r[what] == "yes") for r in rows])
    s = statistic(values, hour) if any(values) else None
    of = lambda h: [r[what] == "yes" for r, g in zip(rows, hour) if g == h] or [False]
    rates = [sum(of(h)) / len(of(h)) for h in range(k)]
    return (1.0 if s is None else upper_chi_square(s, k - 1)), max(rates) - min(rates)


def broken():
    (loss_p, loss_spread), (machine_p, _) = alike("lost"), alike("machine")
    return loss_p < 0.001 and loss_spread > 0.005 or plan["metric"] == "human_open" and machine_p < 0.01


def student_p(t, df):
    """Two-sided, by integrating the density from 0 to t (Simpson)."""
    density = lambda x: exp(lgamma((df + 1) / 2) - lgamma(df / 2)) / sqrt(df * 3.141592653589793) * (1 + x * x / df) ** (-(df + 1) / 2)
    t, n = abs(t), 20000
    inside = sum((1 if i in (0, n) else 4 if i % 2 else 2) * density(t * i / n) for i in range(n + 1)) * t / n / 3
    return max(0.0, 1 - 2 * inside)


if plan.get("confirms") and rows:
    # Each person counts once, by the mean of what they did at the hour that they kept.
    did = [{}, {}]
    for who, h, v in zip(person, hour, y):
        did[h].setdefault(who, []).append(v)
    means = [[sum(v) / len(v) for v in of.values()] for of in did]
    size, mean = [len(m) for m in means], [sum(m) / len(m) for m in means]
    error2 = [sum((x - m) ** 2 for x in of) / (c - 1) / c for of, m, c in zip(means, mean, size)]
    best = place[other if own else plan["confirms"]["best"]]
    gain, error = mean[best] - mean[1 - best], sqrt(sum(error2))
    p = student_p(gain / error, sum(error2) ** 2 / sum(x * x / (c - 1) for x, c in zip(error2, size)))
    print(f"{'own hours less the best one' if own else 'the best hour less the usual one'}, a mean a person: {gain:+.6f} (standard error {error:.6f}), p {p:.6g}")
    print("void" if broken() else "matters" if p < alpha else "not_shown")
    raise SystemExit

e = within(y) if rows else []
seen = statistic(e, hour) if n > 1 and any(e) else None
if seen is None:
    print("cant_tell")
    raise SystemExit
counts = [(sum(1 for g in hour if g == h), sum(v for g, v in zip(hour, y) if g == h)) for h in range(k)]
if n < 500 or any(did < 5 or of - did < 5 for of, did in counts):
    # Few: the same statistic over hours that are drawn again among those who were balanced together.
    groups = {}
    for i, r in enumerate(rows):
        groups.setdefault((r["round"], r["stratum"]), []).append(i)
    rng, again, as_far, draws = random.Random(1), hour[:], 1, 499
    for _ in range(draws):
        for of in groups.values():
            drawn = [again[i] for i in of]
            rng.shuffle(drawn)
            for i, h in zip(of, drawn):
                again[i] = h
        s = statistic(e, again)
        as_far += s is None or s >= seen * (1 - 1e-9)
    p = as_far / (1 + draws)
else:
    p = upper_chi_square(seen, k - 1)
print(f"statistic {seen:.6f}, p {p:.6g}")

information = [[1 / k] * k for _ in range(k)]
score = [0.0] * k
for s, h, v in zip(stratum, hour, e):
    score[h] += v
for of, size in zip(share, sizes):
    for i in range(k):
        information[i][i] += size * of[i]
        for j in range(k):
            information[i][j] -= size * of[i] * of[j]
columns = [solved(information, [float(i == j) for i in range(k)]) for j in range(k)]
inverse = [[columns[j][i] - 1 / k for j in range(k)] for i in range(k)]
estimate = [sum(a * b for a, b in zip(row, score)) for row in inverse]
rest = [v - estimate[h] + sum(q * b for q, b in zip(share[s], estimate)) for s, h, v in zip(stratum, hour, e)]
_, middle = clustered(rest, hour)
times = lambda a, b: [[sum(x * b[m][j] for m, x in enumerate(row)) for j in range(k)] for row in a]
covariance = times(times(inverse, middle), inverse)
for h in range(k):
    print(f"{hours[h]:02d}:00 less the mean of the hours: {estimate[h]:+.6f} (standard error {sqrt(covariance[h][h]):.6f})")


print("void" if broken() else "matters" if p < alpha else "not_shown")
