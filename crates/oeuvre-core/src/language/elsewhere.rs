//! Words that people bring from elsewhere, or knew from an earlier version, and what is written here.
//!
//! This is the one place that holds them: none of them is understood, each is answered.
//!
//! ```
//! use oeuvre_core::language::elsewhere;
//!
//! assert_eq!(elsewhere::ties("dense"), Some("close"));
//! assert_eq!(elsewhere::function("sum"), None); // a word of ours
//! ```

/// Functions, with the way it is written here.
pub const FUNCTIONS: &[(&str, &str)] = &[
    ("distinct", "count(distinct x)"),
    ("count_distinct", "count(distinct x)"),
    ("countdistinct", "count(distinct x)"),
    ("nunique", "count(distinct x)"),
    ("unique", "count(distinct x), or list(distinct x)"),
    ("sum_distinct", "sum(distinct x)"),
    ("rate", "portion(condition)"),
    ("month_of_year", "month_name(d)"),
    ("quarter_of_year", "quarter_name(d)"),
    ("day_of_month", "monthday(d)"),
    ("hour_of_day", "hour(t)"),
    ("days_between", "b - a, the days from a to b"),
    ("datediff", "b - a, the days from a to b"),
    ("add_days", "d + n, or d - n"),
    ("dateadd", "d + n for days, add_months(d, n) for months"),
    ("stddev", "stdev(x)"),
    ("std", "stdev(x)"),
    ("var", "variance(x)"),
    ("dense_rank", "rank(x ties close)"),
    ("row_number", "rank(x ties apart)"),
    ("ntile", "tile(x, n)"),
    ("cumulative", "running(x)"),
    ("cumsum", "running(x)"),
    ("running_total", "running(x)"),
    ("moving_average", "moving(x, 3)"),
    ("first_value", "first(x along d)"),
    ("last_value", "last(x along d)"),
    ("corr", "correlation(x, y)"),
    ("quantile", "percentile(x, 90)"),
    ("isblank", "x is missing"),
    ("len", "length(t)"),
    ("year_month", "month(d)"),
    ("date_trunc", "day(d), week(d), month(d), quarter(d) or year(d)"),
    ("substr", "left(t, n) or right(t, n)"),
    ("ifnull", "coalesce(x, otherwise)"),
    ("nvl", "coalesce(x, otherwise)"),
    ("iif", "if(c, a, b)"),
    ("sumif", "sum(x where condition)"),
    ("sumifs", "sum(x where condition)"),
    ("countif", "count(where condition)"),
    ("countifs", "count(where condition)"),
    ("averageif", "mean(x where condition)"),
    ("isnull", "x is missing"),
    ("previous", "lag(x)"),
    ("prev", "lag(x)"),
    ("percent_of_total", "share(x)"),
    ("pct_of_total", "share(x)"),
    ("ytd", "running(x within year)"),
    ("string_agg", "list(x) or list(distinct x)"),
];

/// Words inside the parentheses of a function, or after a calculation.
pub const CLAUSES: &[(&str, &str)] = &[
    ("using", "`taking`"),
    ("partial", "`at least 1`"),
    ("over", "`within` for what is shared, `along` for what is walked"),
    ("partition", "`within`"),
    ("order", "`along`"),
    ("by", "`per`, `within` or `along`"),
    ("filter", "`where`"),
    ("as", "the name before it: 'name: calculation'"),
    ("when", "if(condition, value, otherwise)"),
    ("descending", "`desc`"),
    ("ascending", "`asc`"),
    ("like", "contains(t, part), starts_with(t, part) or matches(t, 'regex')"),
];

/// Words after `ties`.
pub const TIES: &[(&str, &str)] = &[("skip", "gap"), ("dense", "close"), ("unique", "apart")];

/// Options, with ours.
pub const OPTIONS: &[(&str, &str)] = &[
    ("--across", "--columns-by"),
    ("--on", "--match"),
    ("--unmatched", "--no-match"),
    ("--keep", "--lines-where"),
    ("--having", "--lines-where"),
    ("--tidy", "--long"),
    ("--ragged", "--uneven"),
    ("--bars", "--cell-bars"),
    ("--heat", "--cell-shade"),
    ("--totals-at", "--totals-first"),
    ("--type", "--kind"),
    ("--rows", "--first"),
    ("--limit", "--top"),
    ("--head", "--top"),
    ("--group-by", "--by"),
    ("--order-by", "--sort"),
    ("--select", "--show"),
    ("--filter", "--where"),
    ("--pivot", "--columns-by"),
    ("--output", "--to"),
    ("--out", "--to"),
    ("-o", "--to"),
    ("--sort-by", "--sort"),
    ("--group", "--by"),
    ("--columns", "--columns-by"),
    ("--join", "--lookup"),
    ("--delimiter", "--separator"),
    ("--skip", "--skip-lines"),
    ("--timezone", "--zone"),
    ("--tz", "--zone"),
    ("--total", "--totals"),
    ("--having-lines", "--lines-where"),
    ("--format-as", "--as"),
];

fn find(table: &'static [(&str, &str)], word: &str) -> Option<&'static str> {
    table.iter().find(|(theirs, _)| theirs.eq_ignore_ascii_case(word)).map(|(_, ours)| *ours)
}

/// What is written here for a function of elsewhere.
pub fn function(word: &str) -> Option<&'static str> {
    find(FUNCTIONS, word)
}

/// What is written here for a word inside parentheses or after a calculation.
pub fn clause(word: &str) -> Option<&'static str> {
    find(CLAUSES, word)
}

/// What is written here for a word after `ties`.
pub fn ties(word: &str) -> Option<&'static str> {
    find(TIES, word)
}

/// The option that is called so here.
pub fn option(word: &str) -> Option<&'static str> {
    find(OPTIONS, word)
}
