//! Three data sets as they come from elsewhere, all of the ferry company: the tills of its shops on board, loans of its
//! bikes and tents in two files, appointments of its doctor. As they are made here nothing in them is doubtful but
//! what is said; each test plants its own.

use super::Folder;

/// Day `n` of 2025, as year, month and day.
fn day(n: u32) -> (u32, u32) {
    let lengths = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let (mut month, mut day) = (0, n);
    while day >= lengths[month] {
        day -= lengths[month];
        month += 1;
    }
    (month as u32 + 1, day + 1)
}

/// Two lines a day from January to June: semicolons, decimal commas, days before months, credit notes.
pub fn till() -> String {
    let mut text = "Beleg-Nr;Datum;Laden;Ware;Menge;Betrag;Zahlart\n".to_owned();
    for n in 0..362 {
        let ((month, day), refund) = (day(n / 2), n % 40 == 7);
        let shop = ["Süd", "Nord", "Ost"][n as usize % 3];
        let ware = ["Kaffee", "Brötchen", "Karte"][n as usize % 5 % 3];
        let (number, cents) = (n % 4 + 1, (n % 4 + 1) * (180 + n % 7 * 35));
        let sign = if refund { "-" } else { "" };
        text += &format!(
            "{};{day:02}.{month:02}.2025;{shop};{ware};{sign}{number};{sign}{},{:02};{}\n",
            100_001 + n,
            cents / 100,
            cents % 100,
            ["bar", "Karte"][n as usize % 2],
        );
    }
    text
}

/// Budgets of the shops: commas, decimal points.
pub const BUDGET: &str = "shop,amount\nSüd,1250.50\nNord,980.00\nOst,1100.25\n";

/// A loan a day, in two files: July to September, and October to December.
pub fn loans(second: bool) -> String {
    let mut text = "loan_id,lent_on,returned_on,thing,member,fee\n".to_owned();
    let days = if second { 273..365 } else { 181..273 };
    for n in days {
        let (month, day) = day(n);
        let thing = ["Bike", "Tent", "Kayak", "Film"][n as usize % 4];
        text +=
            &format!("{n},2025-{month:02}-{day:02},,{thing},M{:03},{}.50\n", n * 7 % 60, n % 4 + 1);
    }
    text
}

/// Four appointments a day in January and February.
pub fn appointments() -> String {
    let mut text = "number,Booked at,Clinic,Wait (min),Status,Fee\n".to_owned();
    for n in 0..236 {
        let (month, day) = day(n / 4);
        text += &format!(
            "A{n:04},2025-{month:02}-{day:02}T{:02}:30:00,{},{},{},{} EUR\n",
            8 + n % 4 * 2,
            ["Harbour", "North Quay", "Old Town"][n as usize % 3],
            n * 11 % 70,
            ["kept", "kept", "missed"][n as usize % 3],
            12 + n % 2,
        );
    }
    text
}

/// Text as one byte a character, as old programs write it.
pub fn western(text: &str) -> Vec<u8> {
    text.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect()
}

/// A folder with all of them.
pub fn folder() -> Folder {
    let folder = Folder::with("till.csv", western(&till()));
    folder.write("budget.csv", BUDGET);
    folder.write("loans-1.csv", loans(false));
    folder.write("loans-2.csv", loans(true));
    folder.write("visits.csv", appointments());
    folder
}
