# Works a trial's comparisons out again, from the files beside this one. Needs R alone (no packages).
text <- paste(readLines("plan.json", warn = FALSE), collapse = "")
value <- function(key) sub(sprintf('.*"%s": *("[^"]*"|-?[0-9.e+-]+|null|\\[[^]]*\\]).*', key), "\\1", text)
number <- function(key) suppressWarnings(as.numeric(value(key)))
alpha <- number("alpha"); control <- number("control")
money <- value("metric") == '"revenue"'; crossed <- value("crossed") != "null"
version <- regmatches(sealed <- paste(readLines("seal.json", warn = FALSE), collapse = ""), regexpr('"rule_version": *[0-9]+', sealed))
# Since version 5 tests and limits agree, and money goes by the arms drawn again.
version <- if (length(version) > 0) as.numeric(sub(".*: *", "", version)) else 0
by_limits <- version >= 5
arms <- read.csv("arms.csv", stringsAsFactors = FALSE)
# At a look only those are counted whose window was over by then.
at_look <- !grepl('"called_at_look": *null', sealed)
stopifnot(at_look || all(table(factor(read.csv("assignments.csv")$arm, arms$arm)) == arms$assigned))
# What of alpha it was decided with, where looks may call.
decided <- suppressWarnings(as.numeric(sub('.*"decided_at": *(-?[0-9.e+-]+|null).*', "\\1", sealed)))
level_at <- if (is.na(decided)) alpha else decided
if (number("no_mail") > 0) arms <- arms[arms$subject != "no mail", ] # those without mail call nothing
k <- nrow(arms)
wilson <- function(x, n, level) {
  z <- qnorm(1 - (1 - level) / 2); p <- x / n
  centre <- (p + z^2 / (2 * n)) / (1 + z^2 / n)
  half <- z * sqrt(p * (1 - p) / n + z^2 / (4 * n^2)) / (1 + z^2 / n)
  c(if (x == 0) 0 else centre - half, if (x == n) 1 else centre + half)
}
# Groups of arms are their places, added up. Of a trial in a series each stretch is a table of its own.
by_stretch <- function(t) split(t, t$stretch)
fields <- c("assigned", "unknown", "primary", "sum", "squares")
# Those of whom the primary can be known.
observed <- function(arm) arm[["assigned"]] - arm[["unknown"]]
tables <- if (file.exists("stretches.csv")) by_stretch(read.csv("stretches.csv", stringsAsFactors = FALSE)) else list(arms)
both <- function(a, b) Filter(function(s) observed(s$a) > 0 && observed(s$b) > 0, lapply(tables, function(t) list(a = colSums(t[a, fields]), b = colSums(t[b, fields]))))
# Has an arm under 5 expected successes, or failures?
few <- function(strata) {
  na <- sapply(strata, function(s) observed(s$a)); nb <- sapply(strata, function(s) observed(s$b)); x <- sapply(strata, function(s) s$a[["primary"]] + s$b[["primary"]])
  min(sum(x * na / (na + nb)), sum(x * nb / (na + nb)), sum((na + nb - x) * na / (na + nb)), sum((na + nb - x) * nb / (na + nb))) < 5
}
# The exact test given the successes of each stratum: b's are hypergeometric.
given_all <- function(xa, na, nb, xb) {
  chances <- 1
  for (i in seq_along(na)) {
    p <- dhyper(0:(xa[i] + xb[i]), nb[i], na[i], xa[i] + xb[i])
    added <- numeric(length(chances) + length(p) - 1)
    for (j in seq_along(p)) added[j - 1 + seq_along(chances)] <- added[j - 1 + seq_along(chances)] + chances * p[j]
    chances <- added
  }
  chances
}
# The observed number counts half.
midp <- function(xa, na, xb, nb) {
  chances <- given_all(xa, na, nb, xb); at <- sum(xb) + 1
  min(1, 2 * min(sum(chances[seq_len(at - 1)]) + chances[at] / 2, sum(chances[-seq_len(at)]) + chances[at] / 2))
}
# That test turned around: the odds ratios that it doesn't reject, as differences.
midp_limits <- function(xa, na, xb, nb, w, level) {
  chances <- given_all(xa, na, nb, xb); at <- sum(xb) + 1; can <- which(chances > 0)
  if (length(can) < 2) return(NULL)
  more <- function(odds) {
    t <- log(chances[can]) + odds * can; v <- exp(t - max(t))
    (sum(v[can > at]) + sum(v[can == at]) / 2) / sum(v)
  }
  halved <- function(low, high, below) {
    for (i in 1:56) { m <- (low + high) / 2; if (below(m)) low <- m else high <- m }
    (low + high) / 2
  }
  x <- xa + xb
  over <- function(odds) sum(w * sapply(seq_along(na), function(i) {
    first <- halved(max(0, x[i] - nb[i]) / na[i], min(1, x[i] / na[i]), function(p) qlogis(min(max((x[i] - na[i] * p) / nb[i], 0), 1)) - qlogis(p) > odds)
    (x[i] - na[i] * first) / nb[i] - first
  }))
  sapply(c((1 - level) / 2, 1 - (1 - level) / 2), function(share) over(halved(-40, 40, function(odds) more(odds) < share)))
}
# Draws the arms again within their strata. Its draws are its own, so digits differ a little.
redraw <- function(a, b, level, draws = 2000) {
  set.seed(1)
  people <- read.csv("strata.csv", stringsAsFactors = FALSE); amounts <- read.csv("amounts.csv", stringsAsFactors = FALSE)
  pools <- lapply(split(people, people$stratum), function(s) {
    of <- function(side) amounts$amount[amounts$stratum == s$stratum[1] & amounts$arm %in% arms$arm[side]]
    list(stretch = s$stretch[1], na = sum(s$people[s$arm %in% arms$arm[a]]), nb = sum(s$people[s$arm %in% arms$arm[b]]), va = of(a), vb = of(b))
  })
  blocks <- Filter(function(g) sum(sapply(g, `[[`, "na")) > 0 && sum(sapply(g, `[[`, "nb")) > 0, split(pools, sapply(pools, `[[`, "stretch")))
  sizes <- sapply(blocks, function(g) c(sum(sapply(g, `[[`, "na")), sum(sapply(g, `[[`, "nb"))))
  w <- sizes[1, ] * sizes[2, ] / (sizes[1, ] + sizes[2, ]); w <- w / sum(w)
  # The second arm of a stratum as it was, and redrawn: its sum, its squares, and how many of it were in it before.
  was <- function(p) c(sum(p$vb), sum(p$vb^2), p$nb)
  again <- function(p) {
    v <- c(p$va, p$vb); before <- rep(0:1, c(length(p$va), length(p$vb))); k <- length(v)
    if (p$na == 0 || p$nb == 0) return(if (p$na == 0) was(p) else c(0, 0, 0))
    h <- rhyper(1, p$nb, p$na, k); taken <- sample.int(k, h)
    zeros <- p$nb - length(p$vb)
    c(sum(v[taken]), sum(v[taken]^2), sum(before[taken]) + rhyper(1, zeros, p$na + p$nb - k - zeros, p$nb - h))
  }
  spread <- function(n, s, q) if (n > 1) max(0, (q - s^2 / n) / (n - 1)) / n else 0
  added_up <- function(draw) rowSums(mapply(function(g, w) {
    na <- sum(sapply(g, `[[`, "na")); nb <- sum(sapply(g, `[[`, "nb"))
    total <- sum(sapply(g, function(p) sum(p$va, p$vb))); squares <- sum(sapply(g, function(p) sum(c(p$va, p$vb)^2)))
    s <- rowSums(sapply(g, draw))
    c(w * (s[1] / nb - (total - s[1]) / na), w^2 * (spread(na, total - s[1], squares - s[2]) + spread(nb, s[1], s[2])), w * (s[3] / nb - (nb - s[3]) / na))
  }, blocks, w))
  seen <- added_up(was); drawn <- replicate(draws, added_up(again)); d <- seen[1]
  less <- d - drawn[1, ]; less[abs(less) < 1e-9 * max(1, abs(d))] <- 0
  shifts <- sort(less / pmax(1 - drawn[3, ], 1e-9)); t <- sort(ifelse(drawn[2, ] > 0, drawn[1, ] / sqrt(drawn[2, ]), 0))
  p <- min(1, 2 * (1 + min(sum(shifts <= 0), sum(shifts >= 0))) / (1 + draws))
  rank <- floor((1 - level) / 2 * (1 + draws) - 1) + 1
  if (rank < 1) return(c(d, p, -Inf, Inf))
  low <- shifts[rank]; high <- shifts[draws + 1 - rank]
  z <- qnorm(1 - (1 - level) / 2)
  wide <- c(min(low, d - sqrt(seen[2]) * max(z, t[draws + 1 - rank])), max(high, d - sqrt(seen[2]) * min(-z, t[rank])))
  c(d, p, if (low > 0 && wide[1] <= 0) low else wide[1], if (high < 0 && wide[2] >= 0) high else wide[2])
}
# The difference, its p, and the limits at a level, over the stretches that both were open in.
# The error taken by company, where that is larger.
contrast <- function(a, b, level) {
  found <- contrast_of_people(a, b, level)
  key <- sprintf('"arm": *%d, *"base": *%d, *"effect": *([0-9.e+-]+)', c(a[1], b[1]) - 1, c(b[1], a[1]) - 1)
  hit <- Filter(function(k) grepl(k, sealed), key)
  if (!by_limits || money || length(a) > 1 || length(b) > 1 || !length(hit) || few(both(a, b))) return(found)
  by <- sqrt(max(1, as.numeric(sub(paste0(".*", hit[[1]], ".*"), "\\1", sealed))))
  test <- 2 * pnorm(-qnorm(1 - found[2] / 2) / by)
  limits <- found[1] + (found[3:4] - found[1]) * by
  if (by > 1 && test >= 1 - level) limits <- c(min(limits[1], 0), max(limits[2], 0))
  if (by > 1) c(found[1], test, limits) else found
}
contrast_of_people <- function(a, b, level) {
  if (by_limits && money && file.exists("amounts.csv")) return(redraw(a, b, level))
  if (by_limits && file.exists("before.csv") && !few(both(a, b))) {
    # Lin's difference, adjusted for what people did before: a slope of its own in each arm, variances HC2.
    people <- read.csv("before.csv", stringsAsFactors = FALSE)
    side <- function(of) with(people[people$arm %in% arms$arm[of], ], data.frame(x = c(share, share), y = rep(1:0, each = length(share)), n = c(primary, people - primary)))
    sides <- lapply(list(side(a), side(b)), function(s) s[s$n > 0, ])
    x_mean <- weighted.mean(c(sides[[1]]$x, sides[[2]]$x), c(sides[[1]]$n, sides[[2]]$n))
    each <- sapply(sides, function(s) {
      n <- sum(s$n); mx <- weighted.mean(s$x, s$n); my <- weighted.mean(s$y, s$n); about <- sum(s$n * (s$x - mx)^2)
      slope <- sum(s$n * (s$x - mx) * (s$y - my)) / about
      rest <- s$y - my - slope * (s$x - mx); weight <- 1 / n + (x_mean - mx) * (s$x - mx) / about
      c(my + slope * (x_mean - mx), sum(s$n * (weight * rest)^2 / (1 - 1 / n - (s$x - mx)^2 / about)), n)
    })
    d <- each[1, 2] - each[1, 1]; se <- sqrt(sum(each[2, ])); df <- sum(each[3, ]) - 4
    test <- 2 * pt(-abs(d / se), df); limits <- d + c(-1, 1) * qt(1 - (1 - level) / 2, df) * se
    if (test >= 1 - level) limits <- c(min(limits[1], 0), max(limits[2], 0))
    return(c(d, test, limits))
  }
  strata <- both(a, b)
  na <- sapply(strata, function(s) observed(s$a)); nb <- sapply(strata, function(s) observed(s$b))
  w <- na * nb / (na + nb); w <- w / sum(w)
  of <- function(arm, what) sapply(strata, function(s) s[[arm]][[what]])
  if (money) {
    v <- c(w^2 * (of("a", "squares") - of("a", "sum")^2 / na) / (na - 1) / na, w^2 * (of("b", "squares") - of("b", "sum")^2 / nb) / (nb - 1) / nb)
    d <- sum(w * (of("b", "sum") / nb - of("a", "sum") / na))
    df <- sum(v)^2 / sum(v^2 / c(na - 1, nb - 1))
    half <- qt(1 - (1 - level) / 2, df) * sqrt(sum(v))
    return(c(d, 2 * pt(-abs(d / sqrt(sum(v))), df), d - half, d + half))
  }
  xa <- of("a", "primary"); xb <- of("b", "primary"); pa <- xa / na; pb <- xb / nb; n <- na + nb; x <- xa + xb
  la <- mapply(wilson, xa, na, level); lb <- mapply(wilson, xb, nb, level)
  # With one stretch the pooled score test; over several that of Cochran, Mantel and Haenszel.
  variance <- sum(na * nb * x * (n - x) / (n^2 * (if (length(n) > 1) n - 1 else n)))
  test <- if (variance == 0) 1 else 2 * pnorm(-abs(sum(xb - x * nb / n)) / sqrt(variance))
  if (by_limits && few(strata)) test <- midp(xa, na, xb, nb)
  d <- sum(w * (pb - pa))
  limits <- c(d - sqrt(sum(w^2 * ((pb - lb[1, ])^2 + (la[2, ] - pa)^2))), d + sqrt(sum(w^2 * ((lb[2, ] - pb)^2 + (pa - la[1, ])^2))))
  exact <- if (version >= 6 && few(strata)) midp_limits(xa, na, xb, nb, w, level)
  if (!is.null(exact)) {
    # No narrower than Newcombe's, but where those alone would take in 0.
    wide <- c(min(limits[1], exact[1]), max(limits[2], exact[2]))
    limits <- c(if (exact[1] > 0 && wide[1] <= 0) exact[1] else wide[1], if (exact[2] < 0 && wide[2] >= 0) exact[2] else wide[2])
  }
  # What isn't rejected isn't excluded.
  if (by_limits && test >= 1 - level) limits <- c(min(limits[1], 0), max(limits[2], 0))
  c(d, test, limits)
}
sides <- if (crossed) list(list(1:2, 3:4), list(c(1, 3), c(2, 4))) else if (!is.na(control)) lapply(setdiff(seq_len(k), control + 1), function(a) list(control + 1, a)) else combn(k, 2, function(q) list(q[1], q[2]), simplify = FALSE)
sides <- Filter(function(s) length(both(s[[1]], s[[2]])) > 0, sides)
found <- sapply(sides, function(s) contrast(s[[1]], s[[2]], 1 - level_at / length(sides)))
adjusted <- p.adjust(found[2, ], "holm")
for (i in seq_along(sides)) {
  name <- function(of) paste(arms$arm[of], collapse = "+")
  cat(sprintf("%s less %s: %+.6f (%+.6f to %+.6f), adjusted p %.6g\n", name(sides[[i]][[2]]), name(sides[[i]][[1]]), found[1, i], found[3, i], found[4, i], adjusted[i]))
}
if (crossed && by_limits) {
  # Two changes that don't add up are decided arm by arm against what goes out on no call, by Scheffe's limits.
  share <- if (money) arms$sum / arms$assigned else arms$primary / observed(arms)
  v <- if (money) (arms$squares - arms$sum^2 / arms$assigned) / (arms$assigned - 1) / arms$assigned else share * (1 - share) / observed(arms)
  interaction <- 2 * pnorm(-abs(share[4] - share[2] - share[3] + share[1]) / sqrt(sum(v)))
  cat(sprintf("the two changes add up: p %.6g\n", interaction))
  usual <- number("on_no_call") + 1
  if (interaction < alpha) for (i in setdiff(1:4, usual)) {
    c4 <- contrast(usual, i, 1 - 2 * pnorm(-sqrt(qchisq(1 - alpha, 3))))
    cat(sprintf("%s less %s: %+.6f (%+.6f to %+.6f)\n", arms$arm[i], arms$arm[usual], c4[1], c4[3], c4[4]))
  }
}
cat("Guardrails and the verdict stand in verdict.json; recompute.py works them out too.\n")
