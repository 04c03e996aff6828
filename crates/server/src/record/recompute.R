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
# Groups of arms are their rows, added up: the difference, its p, and the limits at a level.
contrast <- function(a, b, level) {
  a <- colSums(arms[a, c("assigned", "primary", "sum", "squares")]); b <- colSums(arms[b, c("assigned", "primary", "sum", "squares")])
  na <- a[["assigned"]]; nb <- b[["assigned"]]
  if (money) {
    va <- (a[["squares"]] - a[["sum"]]^2 / na) / (na - 1) / na; vb <- (b[["squares"]] - b[["sum"]]^2 / nb) / (nb - 1) / nb
    d <- b[["sum"]] / nb - a[["sum"]] / na
    df <- (va + vb)^2 / (va^2 / (na - 1) + vb^2 / (nb - 1))
    half <- qt(1 - (1 - level) / 2, df) * sqrt(va + vb)
    return(c(d, 2 * pt(-abs(d / sqrt(va + vb)), df), d - half, d + half))
  }
  xa <- a[["primary"]]; xb <- b[["primary"]]; pa <- xa / na; pb <- xb / nb; p <- (xa + xb) / (na + nb)
  la <- wilson(xa, na, level); lb <- wilson(xb, nb, level)
  test <- if (p == 0 || p == 1) 1 else 2 * pnorm(-abs((pb - pa) / sqrt(p * (1 - p) * (1 / na + 1 / nb))))
  c(pb - pa, test, pb - pa - sqrt((pb - lb[1])^2 + (la[2] - pa)^2), pb - pa + sqrt((lb[2] - pb)^2 + (pa - la[1])^2))
}
sides <- if (crossed) list(list(1:2, 3:4), list(c(1, 3), c(2, 4))) else if (!is.na(control)) lapply(setdiff(seq_len(k), control + 1), function(a) list(control + 1, a)) else combn(k, 2, function(q) list(q[1], q[2]), simplify = FALSE)
found <- sapply(sides, function(s) contrast(s[[1]], s[[2]], 1 - alpha / length(sides)))
adjusted <- p.adjust(found[2, ], "holm")
for (i in seq_along(sides)) {
  name <- function(of) paste(arms$arm[of], collapse = "+")
  cat(sprintf("%s less %s: %+.6f (%+.6f to %+.6f), adjusted p %.6g\n", name(sides[[i]][[2]]), name(sides[[i]][[1]]), found[1, i], found[3, i], found[4, i], adjusted[i]))
}
cat("Guardrails and the verdict stand in verdict.json; recompute.py works them out too.\n")
