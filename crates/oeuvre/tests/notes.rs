//! What is doubtful is said on the plain run, and what is only usual is not: errors planted into three messy data
//! sets, each given away by the tool's own words.

mod common;
use common::messy::{self, western};
use common::words;
use rstest::rstest;

/// Runs a line in the folder of the data sets, one of which has been changed.
fn run(file: &str, from: &str, to: &str, line: &str) -> common::Run {
    let folder = messy::folder();
    if !from.is_empty() {
        let text = match file {
            "till.csv" => messy::till(),
            "budget.csv" => messy::BUDGET.to_owned(),
            "loans-1.csv" => messy::loans(false),
            "loans-2.csv" => messy::loans(true),
            _ => messy::appointments(),
        };
        assert!(text.contains(from), "{from} in {file}");
        let text = text.replace(from, to);
        let bytes = if file == "till.csv" { western(&text) } else { text.into_bytes() };
        folder.write(file, bytes);
    }
    let line = words(line);
    folder.run(&line.iter().map(String::as_str).collect::<Vec<_>>())
}

const LOANS: &str = "summary loans-1.csv loans-2.csv";

#[rstest]
// 1. Values behind each result.
#[case::values_and_texts(
    "visits.csv",
    "Harbour,22,",
    "Harbour,-,",
    "summary visits.csv --by Clinic --show 'mean(\"Wait (min)\")'",
    "note: mean(\"Wait (min)\"): 235 of 236 rows have a value; 1 '-'"
)]
#[case::values_after_where(
    "visits.csv",
    ",11,",
    ",,",
    "summary visits.csv --show 'max(\"Wait (min)\")' --where \"Clinic <> 'Harbour'\"",
    "of 157 rows have a value; "
)]
#[case::values_of_some_rows(
    "visits.csv",
    "North Quay,11,",
    "North Quay,,",
    "summary visits.csv --show 'mean(\"Wait (min)\" where Clinic = '\"'North Quay'\"')'",
    "of 79 rows that meet its condition have a value"
)]
// 2. Labels that differ only in case, spaces or Unicode form.
#[case::labels_of_keys(
    "visits.csv",
    "A0003,2025-01-01T14:30:00,Harbour,",
    "A0003,2025-01-01T14:30:00,HARBOUR ,",
    "summary visits.csv --by Clinic",
    "'Harbour' 78 and 'HARBOUR ' 1; as one: --one-spelling Clinic"
)]
#[case::labels_in_conditions(
    "visits.csv",
    ",kept,12",
    ",Kept,12",
    "summary visits.csv --where \"Status = 'kept'\"",
    "does not hold for 'Kept', "
)]
#[case::labels_of_a_lookup(
    "till.csv",
    ";Nord;",
    ";nord;",
    "summary till.csv --lookup budget.csv --match 'Laden = shop' --show 'max(amount)'",
    "'nord' (121) has no match in budget, which has 'Nord'; as one: --one-spelling Laden"
)]
#[case::labels_with_spaces_nobody_sees(
    "visits.csv",
    "A0005,2025-01-02T10:30:00,Old Town",
    "A0005,2025-01-02T10:30:00,Old\u{a0}Town",
    "summary visits.csv --by Clinic",
    r"'Old\u{a0}Town' 1"
)]
#[case::labels_joined(
    "visits.csv",
    "A0003,2025-01-01T14:30:00,Harbour,",
    "A0003,2025-01-01T14:30:00,HARBOUR ,",
    "summary visits.csv --by Clinic --one-spelling Clinic",
    "note: Clinic: 'HARBOUR ' 1 is taken as 'Harbour'"
)]
// 3. A text that no value equals.
#[case::a_text_that_no_row_has(
    "",
    "",
    "",
    "summary loans-1.csv --where \"thing = 'Bikes'\"",
    "no row has thing = 'Bikes'; there is 'Bike', 23 rows"
)]
#[case::a_text_in_a_list(
    "",
    "",
    "",
    "summary loans-1.csv --where \"thing in ('Bike', 'tent')\"",
    "no row has thing = 'tent'; there is 'Tent', 23 rows"
)]
#[case::a_text_inside_an_aggregate(
    "",
    "",
    "",
    "summary loans-1.csv --by member --show \"count(where thing = 'Kayaks')\"",
    "no row that counts has thing = 'Kayaks'; there is 'Kayak', 23 rows"
)]
#[case::a_text_in_a_condition_on_lines(
    "",
    "",
    "",
    "summary loans-1.csv --by thing --lines-where \"thing <> 'Tents'\"",
    "no line has thing = 'Tents'; there is 'Tent', 23 rows"
)]
// 4. Signs, encodings, dates.
#[case::an_odd_value_is_named(
    "till.csv",
    "2,50;",
    "2,5O;",
    "summary till.csv --show 'sum(Betrag)'",
    "it is text because of '2,5O' on line "
)]
#[case::three_digits(
    "budget.csv",
    ".50\nNord,980.00\nOst,1100.25",
    ".500\nNord,980.000\nOst,110.025",
    "summary budget.csv --show amount",
    "sum of amount"
)]
#[case::three_digits_everywhere(
    "budget.csv",
    "1250.50\nNord,980.00\nOst,1100.25",
    "1.250\nNord,980.000\nOst,1.100",
    "summary budget.csv --show amount",
    "amount can be read two ways: '1.250' on line 2 is taken as 1.250, and could be 1250; the other way: --decimal ,"
)]
#[case::three_digits_of_a_lookup(
    "budget.csv",
    "1250.50\nNord,980.00\nOst,1100.25",
    "1.250\nNord,980.000\nOst,1.100",
    "summary till.csv --lookup budget.csv --match 'Laden = shop' --show 'max(amount)'",
    "the other way: --decimal 'budget=,'"
)]
#[case::not_utf8(
    "",
    "",
    "",
    "summary till.csv --by Laden",
    "till.csv is not UTF-8, and is read as windows-1252: see 'Süd' in Laden on line 2"
)]
#[case::dates_that_read_two_ways(
    "loans-1.csv",
    "2025-07-01,,",
    "01/07/2025,02/07/2025,",
    "profile loans-1.csv",
    "can be read two ways: --dates dmy or --dates mdy"
)]
// 5. The same twice.
#[case::the_same_file(
    "",
    "",
    "",
    "summary loans-1.csv loans-2.csv loans-1.csv",
    "loans-1.csv is given twice, and its rows are counted twice"
)]
#[case::a_copy(
    "loans-2.csv",
    "loan_id",
    "loan_id",
    "summary loans-1.csv loans-2.csv ./loans-2.csv",
    "hold the same, and their rows are counted twice"
)]
#[case::a_doubled_number(
    "till.csv",
    "100103;",
    "100102;",
    "profile till.csv",
    "nearly all differ, but 1 value stands on several rows: 100102 on lines 103, 104"
)]
#[case::equal_rows(
    "loans-2.csv",
    "364,2025-12-31",
    "363,2025-12-30,,Film,M021,4.50\n363,2025-12-30,,Film,M021,4.50\n364,2025-12-31",
    "profile loans-2.csv",
    "2 rows are equal to an earlier one in every column, such as lines "
)]
// 6. Periods, currencies, instants.
#[case::a_month_without_rows(
    "loans-2.csv",
    "2025-11-",
    "2025-10-",
    "summary loans-1.csv loans-2.csv --by 'month(lent_on)' --show 'growth(fee)'",
    "no rows in 2025-11; --every-period shows such periods"
)]
#[case::a_month_that_is_not_complete(
    "",
    "",
    "",
    "summary loans-2.csv --by 'month(lent_on)' --where \"lent_on <= '2025-11-12'\"",
    "2025-11 ends on 2025-11-12 in lent_on, and is not complete"
)]
#[case::a_first_month_that_is_not(
    "",
    "",
    "",
    "summary till.csv --by 'year(Datum),quarter(Datum)' --where \"Datum > '2025-02-10'\"",
    "2025 and 2025-Q1 begin on 2025-02-11 in Datum, and are not complete"
)]
#[case::currencies(
    "visits.csv",
    "13 EUR",
    "13 USD",
    "summary visits.csv --show Fee",
    "Fee holds different currencies: EUR 118, USD 118"
)]
#[case::instants(
    "visits.csv",
    "T14:30:00",
    "T14:30:00+02:00",
    "summary visits.csv --show 'max(\"Booked at\")'",
    "Booked at holds times of offset +02:00, read as the clock in UTC showed"
)]
#[case::instants_of_two_offsets(
    "visits.csv",
    ":30:00,Harbour",
    ":30:00Z,Harbour",
    "detail visits.csv --zone Europe/Oslo",
    "read as the clock in Europe/Oslo showed"
)]
// 7. Requests that may mean something else.
#[case::a_share_for_a_percent(
    "",
    "",
    "",
    "summary till.csv --show 'percentile(Betrag, 0.9)'",
    "takes the 0.9th percent of 100; was 90 meant?"
)]
#[case::an_order_by_nothing(
    "",
    "",
    "",
    "summary till.csv --by Laden --columns-by 'month(Datum)' --show 'growth(Betrag)' --sort 'growth(Betrag) desc'",
    "growth(Betrag) has no value in the total column"
)]
#[case::an_order_by_a_column(
    "",
    "",
    "",
    "summary till.csv --by Laden --columns-by 'month(Datum)' --show Menge --sort 'Menge desc' --sort-column 'month = 2025-13'",
    "month(Datum) has no label `2025-13`"
)]
// 8 and 9. Names, and counts of a condition.
#[case::a_heading_that_a_column_hides(
    "",
    "",
    "",
    "summary loans-1.csv --by thing --show 'fee: max(fee)' --show 'sum(fee)'",
    "`fee` in --show is the column, not the heading"
)]
#[case::a_count_of_a_condition(
    "",
    "",
    "",
    "summary loans-1.csv --show \"count(thing = 'Film')\"",
    "how many rows meet it: count(where thing = 'Film')"
)]
// A doubled key, codes without a name, a total of means, a figure that does not agree.
#[case::a_doubled_key(
    "budget.csv",
    "Ost,",
    "Nord,",
    "summary till.csv --lookup budget.csv --match 'Laden = shop' --show amount",
    "keys stand twice in the lookup budget: 'Nord' on lines 3 and 4"
)]
#[case::a_doubled_key_passed_over(
    "budget.csv",
    "Ost,",
    "Nord,",
    "summary till.csv --lookup budget.csv --match 'Laden = shop' --doubled first",
    "rows of budget doubled"
)]
#[case::codes_without_a_name(
    "budget.csv",
    "Ost,",
    "West,",
    "summary till.csv --lookup budget.csv --match 'Laden = shop'",
    "counted all the same: Ost (120)"
)]
#[case::a_total_of_means(
    "",
    "",
    "",
    "summary loans-1.csv --by thing --show 'mean(fee)' --totals",
    "is a mean"
)]
#[case::a_figure_that_does_not_agree(
    "",
    "",
    "",
    "summary loans-1.csv --check 'sum(fee) = 275' --quiet",
    "check does not hold: sum(fee) = 275: found 276.00, wanted 275, difference 1.00"
)]
#[case::a_total_among_the_rows(
    "loans-1.csv",
    "272,2025-09-30,,Bike,M044,1.50",
    "272,2025-09-30,,Bike,M044,1.50\n,,,Total,,230.00",
    "summary loans-1.csv --by thing --show 'sum(fee)'",
    "thing has a label 'Total', 1 row: a total of the file may be counted among its rows"
)]
#[case::two_signs_of_one_currency(
    "visits.csv",
    "13 EUR",
    "13 €",
    "summary visits.csv --by Fee",
    "rows read"
)]
#[case::a_column_that_a_file_lacks(
    "loans-2.csv",
    "member,fee",
    "member,price",
    "summary loans-1.csv loans-2.csv --lacking blank --show 'sum(fee)'",
    "92 of 184 rows have a value; 92 in files without the column"
)]
#[case::a_title_above_the_headings(
    "till.csv",
    "Beleg-Nr;",
    "Kassen;;;;;;\nBeleg-Nr;",
    "summary till.csv",
    "--skip-lines 1"
)]
fn a_planted_error_is_given_away(
    #[case] file: &str,
    #[case] from: &str,
    #[case] to: &str,
    #[case] line: &str,
    #[case] said: &str,
) {
    let run = run(file, from, to, line).no_panic();
    let all = format!("{}{}", run.stdout, run.stderr);
    assert!(all.contains(said), "{line}\n{all}");
}

/// What is in the data as it always is has no note.
#[rstest]
#[case("summary loans-1.csv loans-2.csv --by thing --show 'sum(fee)' --show 'mean(fee)'")]
#[case("summary loans-1.csv loans-2.csv --by 'month(lent_on)' --show 'growth(sum(fee))'")]
#[case("summary loans-1.csv loans-2.csv --by 'quarter(lent_on),month(lent_on)' --show fee")]
#[case("summary visits.csv --by Clinic --show Fee --show 'count(where Status = '\"'kept'\"')'")]
#[case("summary visits.csv --by 'weekday(\"Booked at\")' --columns-by Clinic --totals")]
#[case("detail visits.csv --show number,Clinic --where \"Clinic in ('Harbour', 'Old Town')\"")]
#[case("profile loans-1.csv")]
#[case("profile budget.csv")]
fn what_is_usual_is_not_told(#[case] line: &str) {
    let (_, ledger) = run("", "", "", line).fine();
    assert!(!ledger.contains("note"), "{ledger}");
}

#[test]
fn each_file_is_read_by_its_own_signs_and_options_speak_of_one() {
    // The till has decimal commas and is not UTF-8, the budgets have points and are.
    let by = "--by Laden --lookup budget.csv --match 'Laden = shop' --show 'sum(Betrag)' --show 'max(amount)' --as csv --quiet";
    let plain = run("", "", "", &format!("summary till.csv {by}")).ok();
    assert!(plain.contains("\nSüd,") && plain.contains(",1250.50\n"), "{plain}");
    let said = "--decimal , --encoding windows-1252 --separator ';' --dates dmy";
    assert_eq!(run("", "", "", &format!("summary till.csv {said} {by}")).ok(), plain);
    let turned = format!("summary till.csv --decimal 'budget=,' {by}");
    let turned = run(
        "budget.csv",
        "1250.50\nNord,980.00\nOst,1100.25",
        "1.250\nNord,980\nOst,1.100",
        &turned,
    );
    let turned = turned.ok();
    assert!(turned.contains(",1250\n") && turned.contains(",980\n"), "{turned}");
}

#[test]
fn one_spelling_holds_for_conditions_lookups_and_counts_alike() {
    let ask = "summary visits.csv --by Clinic --show 'count()' --show 'count(distinct Status)' --where \"Status = 'KEPT'\" --one-spelling Status,Clinic --as csv --quiet";
    let out = run("visits.csv", "Harbour,0,kept", "HARBOUR,0,Kept", ask).ok();
    assert_eq!(out, "Clinic,count(),count(distinct Status)\nHarbour,79,1\nNorth Quay,79,1\n");
    let ask = "summary till.csv --by shop --lookup budget.csv --match 'Laden = shop' --show 'max(amount)' --one-spelling Laden --as csv --quiet";
    let out = run("budget.csv", "Nord", " NORD", ask).ok();
    assert!(out.contains("980.00") && !out.contains("missing"), "{out}");
}

#[test]
fn headings_names_and_layout_words_work_the_first_time() {
    let ask = format!(
        "{LOANS} --by 'What: upper(thing)' --show 'U: sum(fee)' --show 'rank(U)' --lines-where 'U > 114' --sort 'U desc' --as csv --quiet"
    );
    let out = run("", "", "", &ask).ok();
    assert!(out.starts_with("What,U,rank(U)\n") && out.contains(",1\n"), "{out}");
    let ask = format!(
        "{LOANS} --by thing --columns-by 'quarter(lent_on)' --show 'share(fee within line)' --show 'share(fee within column)' --totals --as csv --quiet"
    );
    let out = run("", "", "", &ask).ok();
    let last = out.lines().last().unwrap();
    assert!(last.starts_with("Total,") && last.ends_with(",1,1"), "{out}");
    // On a line for the rest, too, and in the group that it stands in.
    let ask = format!(
        "{LOANS} --by 'quarter(lent_on),thing' --columns-by 'month(lent_on)' --show 'share(fee within line)' --show 'share(fee within subtotal)' --totals --top 1 --sort thing --as csv --quiet"
    );
    let out = run("", "", "", &ask).ok();
    let rest = |start: &str| out.lines().find(|l| l.starts_with(start)).unwrap().to_owned();
    let (inner, outer) = (rest("2025-Q3,Rest,"), rest("Rest,"));
    assert!(inner.contains(",1,0.875") && outer.contains(",1,0.5"), "{out}");
    for (condition, rows) in [("year(lent_on) = 2025", 184), ("thing != 'Bike' and fee == 2.5", 46)]
    {
        let ask = format!("{LOANS} --where \"{condition}\" --as csv --quiet");
        assert_eq!(run("", "", "", &ask).ok(), format!("rows\n{rows}\n"), "{condition}");
    }
}

#[test]
fn a_check_that_does_not_hold_ends_with_3_and_everything_written() {
    let both = "summary loans-1.csv --by thing --check 'count() = 92' --check 'fee = 276' --check 'sum(fee) >= 300 ± 1' --quiet --as csv";
    let run = run("", "", "", both);
    assert_eq!(run.code, 3, "{}", run.stderr);
    assert!(run.stdout.starts_with("thing,rows\nBike,23\n"), "{}", run.stdout);
    assert_eq!(
        run.stderr,
        "check holds: count() = 92\ncheck holds: fee = 276\ncheck does not hold: sum(fee) >= 300 ± 1: found 276.00, wanted 300, difference -24.00\n"
    );
}

#[test]
fn many_notes_are_few_unless_all_are_asked_for() {
    let shows: Vec<String> = (0..14)
        .map(|n| format!("--show 'max(if(number > \"A{n:04}\", 1, missing) where Fee > {n})'"))
        .collect();
    let ask = format!(
        "summary visits.csv {}",
        shows.join(" ").replace("\"A", "'\"'A").replace("\",", "'\"',")
    );
    let few = run("", "", "", &ask).fine().1;
    assert!(few.matches("note: ").count() == 11 && few.contains("more: --notes all"), "{few}");
    let all = run("", "", "", &format!("{ask} --notes all")).fine().1;
    assert!(all.matches("note: ").count() > 11 && !all.contains("more: "), "{all}");
}

#[test]
fn numbers_look_as_readers_elsewhere_expect() {
    let ask = "summary till.csv --show 'Summe: sum(Betrag) * 100' --number-style '1.234,56'";
    let out = run("", "", "", &format!("{ask} --quiet")).ok();
    let csv = run("", "", "", &format!("{ask} --as csv --quiet")).ok();
    let figure = csv.lines().nth(1).unwrap();
    assert!(figure.contains('.') && figure.contains(',') && out.contains(figure), "{out}{csv}");
}

/// What a profile says to write can be pasted behind the very command, and ends the matter.
#[rstest]
#[case("till.csv", ";Nord;Brötchen;", ";nord ;Brötchen;", "as one: ", "differ only in case")]
#[case("till.csv", "1,80;bar", "1,8O;bar", "no value: ", "look like a number")]
#[case("visits.csv", "Harbour,22,", "Harbour,\"2,2x\",", "no value: ", "look like a number")]
#[case("visits.csv", "Harbour,22,", "Harbour,-22,", "without them: ", "negative")]
fn the_advice_of_a_profile_ends_the_matter(
    #[case] file: &str,
    #[case] from: &str,
    #[case] to: &str,
    #[case] before: &str,
    #[case] matter: &str,
) {
    let line = format!("profile {file} --quiet");
    let said = run(file, from, to, &line).ok();
    assert!(said.contains(matter), "{said}");
    let advice = said.split(before).nth(1).unwrap().lines().next().unwrap();
    let advice = advice.split("; ").next().unwrap();
    let mended = run(file, from, to, &format!("{line} {advice}")).ok();
    assert!(!mended.contains(matter), "{advice}\n{mended}");
}
