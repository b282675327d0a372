"""Writes the files of this folder: see README.md."""
import csv
import datetime
import decimal
import random

import pyarrow as pa
import pyarrow.ipc as ipc
import pyarrow.parquet as pq

random.seed(7)
D = decimal.Decimal
ROUTES = ["SKE", "HAV", "KEL", "Åland, \"outer\""]
rows = []
for n in range(240):
    day = datetime.date(2025, 1, 1) + datetime.timedelta(days=n)
    rows.append({
        "booking_id": 1000000 + n,
        "route": random.choice(ROUTES),
        "sailed_on": day,
        "booked_at": datetime.datetime(2024, 12, 1, 8, 30) + datetime.timedelta(minutes=977 * n),
        "fare": D(random.randrange(500, 9000)) / 100 if n % 17 else None,
        "passengers": random.randrange(1, 6),
        "delay_min": random.randrange(0, 90) if n % 5 else None,
        "member": random.random() < 0.3,
        "note": random.choice([None, None, "two dogs", "=1+1"]),
    })

def text(value):
    if value is None:
        return ""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, datetime.datetime):
        return value.isoformat()
    return str(value)

with open("bookings.csv", "w", newline="") as out:
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(rows[0])
    writer.writerows([text(value) for value in row.values()] for row in rows)

def column(name, kind):
    return pa.array([row[name] for row in rows], kind)

table = pa.table({
    "booking_id": column("booking_id", pa.int64()),
    "route": column("route", pa.string()).dictionary_encode(),
    "sailed_on": column("sailed_on", pa.date32()),
    "booked_at": column("booked_at", pa.timestamp("us")),
    "fare": column("fare", pa.decimal128(9, 2)),
    "passengers": column("passengers", pa.uint8()),
    "delay_min": column("delay_min", pa.int16()),
    "member": column("member", pa.bool_()),
    "note": column("note", pa.large_string()),
})
pq.write_table(table, "bookings.parquet", compression="zstd", row_group_size=60)
pq.write_table(table, "plain.parquet", compression="snappy", use_dictionary=False,
               store_schema=False, use_deprecated_int96_timestamps=True)
pq.write_table(table, "pages2.parquet", compression="gzip", data_page_version="2.0",
               store_decimal_as_integer=True)
with ipc.new_file("bookings.arrow", table.schema, options=ipc.IpcWriteOptions(compression="lz4")) as out:
    out.write_table(table, max_chunksize=100)
with ipc.new_stream("bookings.arrows", table.schema, options=ipc.IpcWriteOptions(compression="zstd")) as out:
    out.write_table(table, max_chunksize=100)

at = datetime.datetime(2025, 3, 30, 0, 59, 59, 123456)
utc = datetime.timezone.utc
types = pa.table({
    "n": pa.array([1, 2, 3], pa.int8()),
    "unsigned": pa.array([18446744073709551615, 0, None], pa.uint64()),
    "wide": pa.array([D("12345678901234567890123456789012345.678"), D("-0.001"), None], pa.decimal128(38, 3)),
    "tens": pa.array([D("1E+2"), D("-3E+2"), None], pa.decimal128(5, -2)),
    "half": pa.array([0.1, 2.5, float("nan")], pa.float32()),
    "double": pa.array([0.1, float("inf"), None], pa.float64()),
    "second": pa.array([at.replace(microsecond=0), None, None], pa.timestamp("s")),
    "milli": pa.array([at.replace(microsecond=123000), None, None], pa.timestamp("ms")),
    "nano": pa.array([1743296399123456789, None, None], pa.timestamp("ns")),
    "zoned": pa.array([at.replace(tzinfo=utc), at.replace(hour=1, tzinfo=utc), None], pa.timestamp("us", tz="Europe/Oslo")),
    "day": pa.array([-719162, -719163, 2932897], pa.int32()).cast(pa.date32()),
    "early": pa.array([-30000, 0, None], pa.int32()).cast(pa.date32()),
    "clock": pa.array([datetime.time(7, 5), datetime.time(23, 59, 59, 500000), None], pa.time64("us")),
    "word": pa.array(["n/a", "", None], pa.string()),
    "list": pa.array([[1, 2], [], None], pa.list_(pa.int32())),
    "object": pa.array([{"a": 1}, None, {"a": 2}], pa.struct([("a", pa.int32())])),
})
pq.write_table(types.drop(["tens"]), "types.parquet", version="2.6")
with ipc.new_file("types.arrow", types.schema) as out:
    out.write_table(types)


# Workbooks and a database.
import sqlite3

import odf.opendocument
import odf.style
import odf.table
import odf.text
import openpyxl

BOOK = "workbook.xlsx"
book = openpyxl.Workbook()
sheet = book.active
sheet.title = "Bookings"
sheet.append(list(rows[0]))
for row in rows:
    sheet.append([float(v) if isinstance(v, D) else v for v in row.values()])
    # A text that begins as a formula does.
    if row["note"] == "=1+1":
        sheet.cell(row=sheet.max_row, column=9).data_type = "s"
# A cell that has a look and no value, far below.
sheet.cell(row=400, column=2).number_format = "0.00"
book.save(BOOK)

ods = odf.opendocument.OpenDocumentSpreadsheet()
table = odf.table.Table(name="Bookings")

def ods_cell(value):
    if value is None:
        return odf.table.TableCell()
    if isinstance(value, bool):
        return odf.table.TableCell(valuetype="boolean", booleanvalue=str(value).lower())
    if isinstance(value, (int, D)):
        return odf.table.TableCell(valuetype="float", value=str(value))
    if isinstance(value, datetime.datetime):
        return odf.table.TableCell(valuetype="date", datevalue=value.isoformat())
    if isinstance(value, datetime.date):
        return odf.table.TableCell(valuetype="date", datevalue=value.isoformat())
    cell = odf.table.TableCell(valuetype="string")
    cell.addElement(odf.text.P(text=value))
    return cell

for values in [list(rows[0])] + [list(row.values()) for row in rows]:
    line = odf.table.TableRow()
    for value in values:
        line.addElement(ods_cell(value))
    table.addElement(line)
ods.spreadsheet.addElement(table)
ods.save("workbook.ods")

# What people make: a title, blank rows, headings over several columns, other sheets, mistakes, lengths of time.
book = openpyxl.Workbook()
sheet = book.active
sheet.title = "By route"
sheet["A1"] = "Revenue by route"
sheet.merge_cells("A1:E1")
for cell, value in {"A4": "route", "B4": "2025-Q1", "D4": "2025-Q2", "B5": "revenue", "C5": "trips",
                    "D5": "revenue", "E5": "trips", "H7": "see the mail of May"}.items():
    sheet[cell] = value
for cells in ["A4:A5", "B4:C4", "D4:E4"]:
    sheet.merge_cells(cells)
for line, values in {6: ["SKE", 1200.5, 12, 1300.25, 14], 7: ["LIN", 800, 9], 9: ["FYR", 0.1, 1, 0.2, 2]}.items():
    for column, value in enumerate(values, 1):
        sheet.cell(row=line, column=column, value=value)
other = book.create_sheet("Crew")
other.append(["name", "since", "shift", "share", "paid", "bonus", "code"])
other.append(["Ann", datetime.date(2020, 2, 29), datetime.timedelta(hours=36, minutes=30), 0.25, True, "#N/A", "0012"])
other.append(["=2+2", datetime.datetime(2021, 5, 1, 8, 30), datetime.time(8, 30), 0.5, False, 10, "0013"])
other["A3"].data_type = "s"
# A formula that nobody has worked out.
other["F3"] = "=5+5"
other["D2"].number_format = "0%"
other["C2"].number_format = "[h]:mm"
book.create_sheet("Blank")
hidden = book.create_sheet("Hidden")
hidden["A1"] = "nothing to see"
hidden.sheet_state = "hidden"
book.save("messy.xlsx")

import os
if os.path.exists("harbour.sqlite"):
    os.remove("harbour.sqlite")
base = sqlite3.connect("harbour.sqlite")
base.execute("""CREATE TABLE bookings (booking_id INTEGER PRIMARY KEY, route TEXT, sailed_on DATE,
    booked_at TIMESTAMP, fare DECIMAL(9, 2), passengers INTEGER, delay_min INTEGER, member BOOLEAN, note TEXT)""")
base.execute("CREATE INDEX by_route ON bookings (route, fare)")
for row in rows:
    base.execute("INSERT INTO bookings VALUES (?,?,?,?,?,?,?,?,?)",
                 [float(v) if isinstance(v, D) else v.isoformat() if hasattr(v, "isoformat") else v
                  for v in row.values()])
base.execute("CREATE VIEW dear AS SELECT route, fare FROM bookings WHERE fare > 80")
base.execute("CREATE TABLE odd (n INTEGER, code TEXT, mixed, photo BLOB, far REAL)")
base.executemany("INSERT INTO odd VALUES (?,?,?,?,?)",
                 [(2**63 - 1, "007", 1, b"\x00\x01", 9e999), (-5, "12", "two", None, 0.1), (None, "n/a", 2.5, None, None)])
base.commit()
base.close()
