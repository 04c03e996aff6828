# Works a trial's comparisons out again, from the files beside this one. Needs R alone (no packages).
text <- paste(readLines("plan.json", warn = FALSE), collapse = "")
value <- function(key) sub(sprintf('.*"%s": *("[^"]*"|-?[0-9.e+-]+|null|\\[[^]]*\\]).*', key), "\\1", text)
number <- function(key) suppressWarnings(as.numeric(value(key)))
alpha <- number("alpha"); control <- number("control")
money <- value("metric") == '"revenue"'; crossed <- value("crossed") != "null"
arms <- read.csv("arms.csv", stringsAsFactors = FALSE)
stopifnot(all(table(factor(read.csv("assignments.csv")$arm, arms$arm)) == arms$assigned))
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
# The difference, its p, and the limits at a level, over the stretches that both were open in.
contrast <- function(a, b, level) {
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
  d <- sum(w * (pb - pa))
  c(d, test, d - sqrt(sum(w^2 * ((pb - lb[1, ])^2 + (la[2, ] - pa)^2))), d + sqrt(sum(w^2 * ((lb[2, ] - pb)^2 + (pa - la[1, ])^2))))
}
sides <- if (crossed) list(list(1:2, 3:4), list(c(1, 3), c(2, 4))) else if (!is.na(control)) lapply(setdiff(seq_len(k), control + 1), function(a) list(control + 1, a)) else combn(k, 2, function(q) list(q[1], q[2]), simplify = FALSE)
sides <- Filter(function(s) length(both(s[[1]], s[[2]])) > 0, sides)
found <- sapply(sides, function(s) contrast(s[[1]], s[[2]], 1 - alpha / length(sides)))
adjusted <- p.adjust(found[2, ], "holm")
for (i in seq_along(sides)) {
  name <- function(of) paste(arms$arm[of], collapse = "+")
  cat(sprintf("%s less %s: %+.6f (%+.6f to %+.6f), adjusted p %.6g\n", name(sides[[i]][[2]]), name(sides[[i]][[1]]), found[1, i], found[3, i], found[4, i], adjusted[i]))
}
cat("Guardrails and the verdict stand in verdict.json; recompute.py works them out too.\n")
