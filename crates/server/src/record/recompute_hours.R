# Works an hour trial's reading out again, from the files beside this one. Needs R alone (no packages).
text <- paste(readLines("plan.json", warn = FALSE), collapse = "")
value <- function(key) sub(sprintf('.*"%s": *("[^"]*"|-?[0-9.e+-]+|\\[[^]]*\\]).*', key), "\\1", text)
hours <- as.numeric(strsplit(gsub("[][ \n]", "", value("hours")), ",")[[1]]); k <- length(hours)
alpha <- as.numeric(value("alpha")); opens <- value("metric") == '"human_open"'
everybody <- read.csv("drawn.csv", stringsAsFactors = FALSE)
if (grepl('"own": *true', text)) {
  # Each person's own hour against the best one for all: whichever somebody's is, it stands for all.
  best <- as.numeric(sub('.*"best": *([0-9]+).*', "\\1", text)); other <- setdiff(hours, best)[1]
  everybody$hour[everybody$hour != best] <- other; hours <- c(other, best); k <- 2
}
out <- tapply(everybody$lost == "yes", everybody$round, mean) > as.numeric(value("fail_loss"))
rows <- everybody[!everybody$round %in% names(out)[out] & (!opens | everybody$opens_known == "yes"), ]
stratum <- factor(paste(rows$round, rows$zone)); person <- factor(rows$contact); n <- nlevels(person)
q <- prop.table(table(stratum, factor(rows$hour, hours)), 1)
beyond <- function(hour) { d <- -unclass(q)[as.integer(stratum), , drop = FALSE]; at <- cbind(seq_along(hour), match(hour, hours)); d[at] <- d[at] + 1; d }
clustered <- function(d, w) { u <- rowsum(d * w, person); list(u = colSums(u), v = crossprod(u) * n / (n - 1)) }
score <- function(y, hour) {
  e <- y - ave(y, stratum); s <- clustered(beyond(hour), e)
  tryCatch(drop(crossprod(s$u[-k], solve(s$v[-k, -k, drop = FALSE], s$u[-k]))), error = function(x) NA)
}
y <- as.numeric(rows$did == "yes"); seen <- score(y, rows$hour)
alike <- function(what) { s <- score(as.numeric(rows[[what]] == "yes"), rows$hour); if (is.na(s)) 1 else pchisq(s, k - 1, lower.tail = FALSE) }
spread <- diff(range(tapply(rows$lost == "yes", rows$hour, mean)))
ends <- function(p) cat(if (alike("lost") < 0.001 && spread > 0.005 || opens && alike("machine") < 0.01) "void" else if (p < alpha) "matters" else "not_shown", "\n", sep = "")
if (grepl('"confirms"', text)) {
  # Each person counts once, by the mean of what they did at the hour that they kept.
  better <- if (exists("other")) other else as.numeric(sub('.*"best": *([0-9]+).*', "\\1", text))
  means <- aggregate(y ~ contact + hour, data.frame(y, contact = rows$contact, hour = rows$hour), mean)
  found <- t.test(means$y[means$hour == better], means$y[means$hour != better])
  cat(sprintf("%s, a mean a person: %+.6f (standard error %.6f), p %.6g\n", if (exists("other")) "own hours less the best one" else "the best hour less the usual one", -diff(found$estimate), found$stderr, found$p.value))
  ends(found$p.value)
  quit()
}
did <- tapply(y, factor(rows$hour, hours), sum); of <- table(factor(rows$hour, hours))
p <- if (n < 500 || any(did < 5) || any(of - did < 5)) {
  set.seed(1); group <- paste(rows$round, rows$stratum)
  drawn <- replicate(499, score(y, ave(rows$hour, group, FUN = function(h) h[sample.int(length(h))])))
  (1 + sum(is.na(drawn) | drawn >= seen * (1 - 1e-9))) / 500
} else pchisq(seen, k - 1, lower.tail = FALSE)
cat(sprintf("statistic %.6f, p %.6g\n", seen, p))
d <- beyond(rows$hour); e <- y - ave(y, stratum)
inverse <- solve(crossprod(d) + 1 / k) - 1 / k
estimate <- drop(inverse %*% crossprod(d, e))
covariance <- inverse %*% clustered(d, e - drop(d %*% estimate))$v %*% inverse
cat(sprintf("%02d:00 less the mean of the hours: %+.6f (standard error %.6f)\n", hours, estimate, sqrt(diag(covariance))), sep = "")
ends(p)
