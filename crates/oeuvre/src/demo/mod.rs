//! The data of a made-up ferry company: the same bytes on every machine.
//!
//! It holds what real data holds: seasons, growth, a route that opens in the middle, a stormy month,
//! a vessel that is always late, refunds as negative fares, `n/a` among the delays, blank channels,
//! notes with commas, quotes and line breaks, a route code that the routes do not have, ties, and two
//! outliers.

use oeuvre_columns::Decimal;
use oeuvre_columns::value::calendar::{Part, civil_from_days, days_from_civil};
use std::io::{self, Write};

/// The files with what they hold.
pub(crate) const FILES: [(&str, &str); 4] = [
    ("bookings.csv", "one row a booking, 2023 to 2025"),
    ("routes.csv", "the routes behind the codes"),
    ("targets.csv", "revenue targets by month and coast"),
    ("monthly.toml", "a report over them, for every month"),
];

const REPORT_FILE: &str = include_str!("monthly.toml");

const BOOKINGS: &str = "booking_id,booked_at,sailed_on,route,vessel,ticket,channel,customer_id,passengers,vehicles,fare,extras,status,delay_min,note";
const ROUTES: &str = "code,name,coast,nautical_miles,capacity";
const TARGETS: &str = "month,coast,target";

/// The first line of a file of the demo.
pub(crate) fn heading(name: &str) -> &'static str {
    match name {
        "bookings.csv" => BOOKINGS,
        "routes.csv" => ROUTES,
        "monthly.toml" => REPORT_FILE.lines().next().unwrap_or_default(),
        _ => TARGETS,
    }
}

/// SplitMix64 (Steele, Lea and Flood, 2014).
struct Random(u64);

impl Random {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }
    /// Uniform in `0..n`, for `n` up to 2^32.
    fn below(&mut self, n: u64) -> u64 {
        ((self.next() >> 32) * n) >> 32
    }
    /// True in `permille` of 1000 cases.
    fn chance(&mut self, permille: u64) -> bool {
        self.below(1000) < permille
    }
}

/// Chooses by weight.
struct Choice(Vec<u64>);

impl Choice {
    fn new(weights: impl Iterator<Item = u64>) -> Choice {
        let mut sum = 0;
        Choice(
            weights
                .map(|w| {
                    sum += w;
                    sum
                })
                .collect(),
        )
    }
    fn pick(&self, random: &mut Random) -> usize {
        let at = random.below(self.0[self.0.len() - 1]);
        self.0.partition_point(|&sum| sum <= at)
    }
}

struct Route {
    code: &'static str,
    name: &'static str,
    coast: &'static str,
    miles: u32,
    capacity: u32,
    weight: u64,
    /// In cents.
    base_fare: u64,
    /// The first day it sails, counted from 2023-01-01.
    opens: i32,
}

impl Route {
    const fn new(code: &'static str, name: &'static str, coast: &'static str) -> Route {
        Route { code, name, coast, miles: 0, capacity: 0, weight: 0, base_fare: 0, opens: 0 }
    }
    const fn with(self, miles: u32, capacity: u32, weight: u64, base_fare: u64) -> Route {
        Route { miles, capacity, weight, base_fare, ..self }
    }
}

const ROUTE_LIST: [Route; 13] = [
    Route::new("SKE", "Skerry Sound", "North").with(14, 420, 190, 1850),
    Route::new("HAV", "Havn Crossing", "North").with(22, 420, 165, 2450),
    Route::new("TOR", "Tor Point", "North").with(9, 180, 90, 1275),
    Route::new("LIN", "Linsay Bay", "West").with(31, 380, 120, 3890),
    Route::new("ORM", "Ormsa Loop", "West").with(18, 240, 80, 2100),
    Route::new("VAS", "Vastra Night", "West").with(64, 520, 34, 5640),
    Route::new("KEL", "Kelda Outer", "Islands").with(47, 300, 60, 4425),
    Route::new("FYR", "Fyrsa Light", "Islands").with(52, 300, 45, 4980),
    Route::new("AAL", "Aalen Reach", "Islands").with(12, 120, 40, 980),
    Route::new("STR", "Strand Shuttle", "South").with(4, 90, 110, 690),
    Route::new("NES", "Nesse Ferry", "South").with(7, 90, 75, 820),
    // Opens on 2024-04-01.
    Route { opens: 456, ..Route::new("BRY", "Bryn Coast Line", "South").with(27, 350, 95, 3150) },
    // A charter code that the list of routes does not have.
    Route::new("XCH", "", "").with(0, 0, 4, 7500),
];
/// How many of them are in routes.csv.
const LISTED: usize = 12;

const VESSELS: [&str; 8] = [
    "Aurora",
    "Blue Heron",
    "Cormorant",
    "Gannet",
    "Kittiwake",
    "Northern Star",
    "Puffin",
    "Sea Otter",
];
/// This vessel is always late.
const LATE_VESSEL: usize = 4;
const TICKETS: [(&str, u64, u64); 5] = [
    ("adult", 54, 100),
    ("child", 15, 50),
    ("senior", 13, 80),
    ("student", 10, 75),
    ("cabin", 8, 190),
];
const CHANNELS: [(&str, u64); 6] =
    [("web", 44), ("app", 27), ("desk", 13), ("agent", 8), ("phone", 5), ("", 3)];
const NOTES: [&str; 9] = [
    "\"window seat, port side\"",
    "wheelchair",
    "\"bike, unloaded\"",
    "\"asked for the \"\"quiet\"\" lounge\"",
    "\"two dogs, both small\"",
    "\"called twice\nno answer\"",
    "vegetarian",
    "\"\"\"no refund\"\" explained, at desk\"",
    "\"first leg changed\nsecond leg kept, same cabin\"",
];
/// Sailings by month, in parts.
const SEASON: [u64; 12] = [48, 52, 64, 82, 96, 124, 178, 186, 108, 80, 54, 72];
/// Sailings by weekday from Monday, in parts.
const WEEK: [u64; 7] = [88, 82, 86, 96, 128, 132, 108];

const FIRST_DAY: i32 = days_from_civil(2023, 1, 1);
const DAYS: i32 = days_from_civil(2026, 1, 1) - FIRST_DAY;
/// Waves closed the ports for much of this month.
const STORM: (i32, u32) = (2025, 2);

/// What the bookings are drawn from.
struct Odds {
    days: Vec<(i32, u32, u32)>,
    by_day: Choice,
    by_route: Choice,
    by_ticket: Choice,
    by_channel: Choice,
    rows: u64,
    customers: u64,
}

/// A booking.
struct Booking {
    id: u64,
    date: (i32, u32, u32),
    booked: (i32, u32, u32),
    /// Seconds of that day.
    clock: u64,
    route: usize,
    vessel: usize,
    ticket: usize,
    channel: usize,
    customer: u64,
    passengers: u64,
    vehicles: u64,
    /// In hundredths.
    fare: i64,
    extras: i64,
    status: &'static str,
    delay: u64,
    unknown_delay: bool,
    note: Option<&'static str>,
}

impl Odds {
    fn new(rows: u64) -> Odds {
        let days: Vec<(i32, u32, u32)> =
            (0..DAYS).map(|d| civil_from_days(FIRST_DAY + d)).collect();
        // Each year has a tenth more than the one before.
        let by_day = Choice::new((0..DAYS).map(|d| {
            let (year, month, _) = days[d as usize];
            let growth = [100, 110, 121][(year - 2023) as usize];
            let week = WEEK[Part::Weekday.of_day(FIRST_DAY + d) as usize];
            SEASON[month as usize - 1] * week * growth
        }));
        Odds {
            days,
            by_day,
            by_route: Choice::new(ROUTE_LIST.iter().map(|r| r.weight)),
            by_ticket: Choice::new(TICKETS.iter().map(|t| t.1)),
            by_channel: Choice::new(CHANNELS.iter().map(|c| c.1)),
            rows,
            // However much it sails, a ferry company has no more than a million customers.
            customers: (rows / 6).clamp(50, 1_000_000),
        }
    }

    /// The day of a sailing, counted from the first: rows come roughly in the order of sailing.
    fn day(&self, i: u64, r: &mut Random) -> i32 {
        let total = self.by_day.0[self.by_day.0.len() - 1];
        let at = (u128::from(total) * u128::from(i) / u128::from(self.rows)) as u64;
        let jitter = r.below(29) as i32 - 14;
        let day = self.by_day.0.partition_point(|&sum| sum <= at) as i32;
        (day + jitter).clamp(0, DAYS - 1)
    }

    /// Draws a booking. The order in which numbers are drawn makes the file what it is.
    fn draw(&self, i: u64, r: &mut Random) -> Booking {
        let day = self.day(i, r);
        let (year, month, monthday) = self.days[day as usize];
        let mut route = self.by_route.pick(r);
        if day < ROUTE_LIST[route].opens {
            route = 0;
        }
        let line = &ROUTE_LIST[route];
        // Each route has two or three vessels.
        let vessel = (route * 3 + r.below(3) as usize * 2) % VESSELS.len();
        let ticket = self.by_ticket.pick(r);
        let channel = self.by_channel.pick(r);
        // Some customers come often.
        let often = if r.chance(300) { self.customers / 20 + 1 } else { self.customers };
        let customer = r.below(often);
        let passengers = [1, 1, 1, 2, 2, 2, 3, 4, 4, 5][r.below(10) as usize];
        let vehicles = u64::from(line.miles > 5 && r.chance(340)) + u64::from(r.chance(20));
        let summer = if matches!(month, 6..=8) { 112 } else { 100 };
        let dearer = [100, 103, 107][(year - 2023) as usize];
        let full = line.base_fare * TICKETS[ticket].2 * summer * dearer / 1_000_000;
        // Fares end in round numbers, and so tie.
        let fare = ((full * (92 + r.below(17)) / 100) / 5 * 5).max(100) as i64;
        let extras = if r.chance(380) { (r.below(40) * 50 + 250) as i64 } else { 0 };
        let storm = (year, month) == STORM;
        let status = status(r.below(1000), storm);
        let delay = delay(vessel, storm, r);
        let unknown_delay = r.chance(31);
        let lead = r.below(12) * r.below(12) / 2 + r.below(2);
        let clock = r.below(57_600) + 21_600; // between six and ten
        let id = 1_000_001 + i * 2 + r.below(2);
        let note = r.chance(40).then(|| NOTES[r.below(NOTES.len() as u64) as usize]);
        let (fare, extras) = if status == "refunded" { (-fare, 0) } else { (fare, extras) };
        Booking {
            id,
            date: (year, month, monthday),
            booked: civil_from_days(FIRST_DAY + day - lead as i32),
            clock,
            route,
            vessel,
            ticket,
            channel,
            customer,
            passengers,
            vehicles,
            fare,
            extras,
            status,
            delay,
            unknown_delay,
            note,
        }
    }
}

/// What became of a booking, by a number below 1,000.
fn status(n: u64, storm: bool) -> &'static str {
    let [cancelled, refunded, no_show] = if storm { [260, 320, 335] } else { [48, 78, 93] };
    match n {
        n if n < cancelled => "cancelled",
        n if n < refunded => "refunded",
        n if n < no_show => "no-show",
        _ => "sailed",
    }
}

/// Exponential-like: few are very late.
fn delay(vessel: usize, storm: bool, r: &mut Random) -> u64 {
    let delay = (r.below(12) * r.below(12)) / 6;
    let delay = if vessel == LATE_VESSEL { delay * 2 + 6 } else { delay };
    if storm { delay + 14 } else { delay }
}

impl Booking {
    /// Two rows that every profile should show.
    fn with_blunders(mut self, i: u64, rows: u64) -> Booking {
        if i == rows / 3 {
            self.fare = 999_900;
        }
        if i == rows / 2 + 7 {
            self.delay = 1_440;
        }
        self
    }

    /// Writes the record.
    fn write(&self, text: &mut Vec<u8>) {
        number(text, self.id);
        text.push(b',');
        date(text, self.booked);
        let clock = [self.clock / 3600, self.clock / 60 % 60, self.clock % 60];
        for (before, n) in b"T::".iter().zip(clock) {
            text.push(*before);
            two_digits(text, n);
        }
        text.push(b',');
        date(text, self.date);
        let code = ROUTE_LIST[self.route].code;
        for part in [code, VESSELS[self.vessel], TICKETS[self.ticket].0, CHANNELS[self.channel].0] {
            text.push(b',');
            text.extend_from_slice(part.as_bytes());
        }
        for n in [100_000 + self.customer, self.passengers, self.vehicles] {
            text.push(b',');
            number(text, n);
        }
        for amount in [self.fare, self.extras] {
            text.push(b',');
            if amount < 0 {
                text.push(b'-');
            }
            number(text, amount.unsigned_abs() / 100);
            text.push(b'.');
            two_digits(text, amount.unsigned_abs() % 100);
        }
        text.push(b',');
        text.extend_from_slice(self.status.as_bytes());
        text.push(b',');
        if self.unknown_delay {
            text.extend_from_slice(b"n/a");
        } else if self.status == "sailed" {
            number(text, self.delay);
        }
        text.push(b',');
        text.extend_from_slice(self.note.unwrap_or_default().as_bytes());
        text.push(b'\n');
    }
}

/// Writes the bookings.
///
/// Gives the revenue of what sailed, in hundredths, as the accounts of the company have it.
pub(crate) fn bookings(rows: u64, out: &mut dyn Write) -> io::Result<i128> {
    let mut random = Random(0x0e0b_5eed);
    let odds = Odds::new(rows);
    let mut text = Vec::with_capacity(1 << 17);
    text.extend_from_slice(BOOKINGS.as_bytes());
    text.push(b'\n');
    let mut revenue = 0;
    for i in 0..rows {
        let booking = odds.draw(i, &mut random).with_blunders(i, rows);
        if booking.status == "sailed" {
            revenue += i128::from(booking.fare) * i128::from(booking.passengers);
        }
        booking.write(&mut text);
        if text.len() > 1 << 16 {
            out.write_all(&text)?;
            text.clear();
        }
    }
    out.write_all(&text)?;
    Ok(revenue)
}

fn two_digits(text: &mut Vec<u8>, n: u64) {
    text.extend([b'0' + (n / 10) as u8, b'0' + (n % 10) as u8]);
}

fn number(text: &mut Vec<u8>, n: u64) {
    let mut digits = [0u8; 20];
    let (mut at, mut rest) = (20, n);
    loop {
        at -= 1;
        digits[at] = b'0' + (rest % 10) as u8;
        rest /= 10;
        if rest == 0 {
            break;
        }
    }
    text.extend_from_slice(&digits[at..]);
}

fn date(text: &mut Vec<u8>, (year, month, day): (i32, u32, u32)) {
    number(text, year as u64);
    for part in [month, day] {
        text.extend([b'-', b'0' + (part / 10) as u8, b'0' + (part % 10) as u8]);
    }
}

/// Writes the routes behind the codes.
pub(crate) fn routes(out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "{ROUTES}")?;
    for r in &ROUTE_LIST[..LISTED] {
        writeln!(out, "{},{},{},{},{}", r.code, r.name, r.coast, r.miles, r.capacity)?;
    }
    Ok(())
}

/// Writes the monthly report, with the revenue that it must come to, in hundredths.
pub(crate) fn report(revenue: i128, out: &mut dyn Write) -> io::Result<()> {
    let revenue = Decimal::new(revenue, 2).to_string();
    out.write_all(REPORT_FILE.replace("{revenue}", &revenue).as_bytes())
}

/// Writes the revenue targets.
pub(crate) fn targets(out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "{TARGETS}")?;
    for year in 2023..=2025 {
        for month in 1..=12u32 {
            for (coast, weight) in [("Islands", 27), ("North", 44), ("South", 17), ("West", 46)] {
                let growth = [100, 112, 125][(year - 2023) as usize];
                let target = SEASON[month as usize - 1] * weight * growth / 100 / 10 * 100;
                writeln!(out, "{year}-{month:02},{coast},{target}")?;
            }
        }
    }
    Ok(())
}
