//! Requests that give the same bytes and the same account, whatever the rows are kept in.

/// They, with `FILE` where the rows are named.
pub const REQUESTS: [&str; 20] = [
    "summary FILE --by route --show 'sum(fare)' --totals",
    "summary FILE --by 'month(sailed_on)' --show 'count(), mean(fare), median(delay_min)'",
    "summary FILE --by route --columns-by 'quarter(sailed_on)' --show 'sum(fare * passengers)' --totals",
    "summary FILE --by member --show 'count(), min(booked_at), max(booked_at)'",
    "summary FILE --where \"sailed_on >= '2025-05-01' and fare < 40\" --by route --show 'count()'",
    "summary FILE --where \"booking_id between 1000100 and 1000119\" --show 'count(), sum(fare)'",
    "summary FILE --where \"passengers in (2, 3)\" --by route --show 'count()'",
    "summary FILE --where \"route = 'SKE'\" --by note --show 'count()'",
    "summary FILE --where 'delay_min is missing' --by route --show 'count()'",
    "summary FILE --where 'not member' --show 'count(distinct route), percentile(fare, 90)'",
    "summary FILE --by 'weekday(sailed_on)' --show 'share(sum(fare))' --top 3 --rest-label Others",
    "summary FILE --by route --show 'first(fare along booked_at), last(note along booked_at)'",
    "summary FILE --by route --show 'mode(passengers), list(distinct note)'",
    "summary FILE --by 'year(booked_at)' --columns-by member --show 'count()' --totals=all",
    "summary FILE --by route --show 'count(where fare > mean(fare))'",
    "summary FILE --by route --show 'stdev(fare)' --lines-where 'count() > 50'",
    "detail FILE --show booking_id,fare --show 'rank(fare within route)' --sort 'fare desc' --top 9",
    "detail FILE --show booking_id --show 'running(fare along sailed_on, booking_id)'",
    "detail FILE",
    "trace FILE --by route --show 'sum(fare)' --at 'route = KEL' --as csv",
];

/// What a request gives and what it says of the rows, with so many threads.
pub fn answer(folder: &super::Folder, asked: &str, file: &str, threads: usize) -> (String, String) {
    let line = asked.replace("FILE", file);
    let (table, said) = folder.line(&format!("{line} --threads {threads}")).fine();
    // Where a row stands is told by what the file has.
    let table = match asked.starts_with("trace") {
        true => table.split_once('\n').map_or(String::new(), |(_, rows)| {
            rows.lines().map(|row| row.rsplit(',').next().unwrap().to_owned() + "\n").collect()
        }),
        false => table,
    };
    (table, said)
}
