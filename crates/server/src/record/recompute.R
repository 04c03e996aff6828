# Works a trial's comparisons out again, from the files beside this one. Needs R alone (no packages).
text <- paste(readLines("plan.json", warn = FALSE), collapse = "")
number <- function(key) as.numeric(sub(sprintf('.*"%s": *(-?[0-9.e+-]+|null).*', key), "\\1", text))
alpha <- number("alpha"); effect <- number("effect")
control <- suppressWarnings(number("control"))
arms <- read.csv("arms.csv", stringsAsFactors = FALSE)
n <- arms$assigned; x <- arms$primary; k <- nrow(arms)
stopifnot(all(table(factor(read.csv("assignments.csv")$arm, arms$arm)) == n))
wilson <- function(x, n, level) {
  z <- qnorm(1 - (1 - level) / 2); p <- x / n
  centre <- (p + z^2 / (2 * n)) / (1 + z^2 / n)
  half <- z * sqrt(p * (1 - p) / n + z^2 / (4 * n^2)) / (1 + z^2 / n)
  c(if (x == 0) 0 else centre - half, if (x == n) 1 else centre + half)
}
newcombe <- function(xa, na, xb, nb, level) {
  a <- wilson(xa, na, level); b <- wilson(xb, nb, level); pa <- xa / na; pb <- xb / nb
  c(pb - pa - sqrt((pb - b[1])^2 + (a[2] - pa)^2), pb - pa + sqrt((b[2] - pb)^2 + (pa - a[1])^2))
}
score_p <- function(xa, na, xb, nb) {
  p <- (xa + xb) / (na + nb)
  if (p == 0 || p == 1) return(1)
  2 * pnorm(-abs((xb / nb - xa / na) / sqrt(p * (1 - p) * (1 / na + 1 / nb))))
}
pairs <- if (!is.na(control)) lapply(setdiff(seq_len(k), control + 1), function(a) c(control + 1, a)) else combn(k, 2, simplify = FALSE)
p <- sapply(pairs, function(q) score_p(x[q[1]], n[q[1]], x[q[2]], n[q[2]]))
adjusted <- p.adjust(p, "holm")
for (i in seq_along(pairs)) {
  q <- pairs[[i]]
  limits <- newcombe(x[q[1]], n[q[1]], x[q[2]], n[q[2]], 1 - alpha / length(pairs))
  cat(sprintf("%s less %s: %+.6f (%+.6f to %+.6f), adjusted p %.6g\n", arms$arm[q[2]], arms$arm[q[1]], x[q[2]] / n[q[2]] - x[q[1]] / n[q[1]], limits[1], limits[2], adjusted[i]))
}
cat("Guardrails and the verdict stand in verdict.json; recompute.py works them out too.\n")
