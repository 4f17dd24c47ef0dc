"""Makes the logger files of this folder and `truth.json`, what a careful reader finds in them.

    python3 make.py

Needs nothing but Python. Nothing here is shared with the reader: each file is written from a made-up record, and its truth is summed
from that record, not read back from the file."""
import datetime as d
import gzip
import io
import json
import math
import os
import random
import zipfile
import zoneinfo
from decimal import Decimal

HERE = os.path.dirname(os.path.abspath(__file__))
TRUTH = []


def series(seed, n, base, swing, step, decimals, every=900):
    """Values as decimals: a daily wave, some noise, rounded to a step."""
    rng, out = random.Random(seed), []
    for i in range(n):
        v = base + swing * math.sin(2 * math.pi * i * every / 86400) + rng.gauss(0, swing / 15)
        out.append(Decimal(round(v / step) * Decimal(str(step))).quantize(Decimal(1).scaleb(-decimals)))
    return out


class Column:
    def __init__(self, name, values, unit="", quantity=None, depth=None, factor=1, plus=0, table=None, node=None):
        self.name, self.values, self.unit, self.quantity, self.depth = name, list(values), unit, quantity, depth
        self.factor, self.plus, self.table, self.node = Decimal(str(factor)), Decimal(str(plus)), table, node


def grid(start, n, every=900, zone=None):
    """n times from start (UTC), each with what the clock showed."""
    t0 = d.datetime.fromisoformat(start).replace(tzinfo=d.timezone.utc)
    zone = zone or d.timezone.utc
    return [(t0 + d.timedelta(seconds=every * i), (t0 + d.timedelta(seconds=every * i)).astimezone(zone).replace(tzinfo=None)) for i in range(n)]


def fixed(minutes):
    return d.timezone(d.timedelta(minutes=minutes))


def sheet(rows):
    """A workbook of one sheet, the least that the format asks for; a datetime is a number in the style of dates."""
    def cell(v):
        if isinstance(v, d.datetime):
            return f'<c s="1"><v>{(v - d.datetime(1899, 12, 30)).total_seconds() / 86400!r}</v></c>'
        return f"<c><v>{v}</v></c>" if isinstance(v, Decimal) else f'<c t="inlineStr"><is><t>{v}</t></is></c>'
    body = "".join("<row>" + "".join(cell(v) for v in row) + "</row>" for row in rows)
    main, office = "http://schemas.openxmlformats.org/spreadsheetml/2006/main", "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    package, types = "http://schemas.openxmlformats.org/package/2006/relationships", "application/vnd.openxmlformats-officedocument.spreadsheetml."
    parts = {
        "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        f'<Override PartName="/xl/workbook.xml" ContentType="{types}sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="{types}worksheet+xml"/>'
        f'<Override PartName="/xl/styles.xml" ContentType="{types}styles+xml"/></Types>',
        "_rels/.rels": f'<Relationships xmlns="{package}"><Relationship Id="r1" Type="{office}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'<workbook xmlns="{main}" xmlns:r="{office}"><sheets><sheet name="Record" sheetId="1" r:id="r1"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{package}"><Relationship Id="r1" Type="{office}/worksheet" Target="worksheets/sheet1.xml"/>'
        f'<Relationship Id="r2" Type="{office}/styles" Target="styles.xml"/></Relationships>',
        "xl/styles.xml": f'<styleSheet xmlns="{main}"><cellXfs count="2"><xf numFmtId="0"/><xf numFmtId="22" applyNumberFormat="1"/></cellXfs></styleSheet>',
        "xl/worksheets/sheet1.xml": f'<worksheet xmlns="{main}"><sheetData>{body}</sheetData></worksheet>',
    }
    return archive(parts)


def table(rows):
    """The same as an OpenDocument spreadsheet."""
    def cell(v):
        if isinstance(v, d.datetime):
            return f'<table:table-cell office:value-type="date" office:date-value="{v:%Y-%m-%dT%H:%M:%S}"><text:p>{v}</text:p></table:table-cell>'
        if isinstance(v, Decimal):
            return f'<table:table-cell office:value-type="float" office:value="{v}"><text:p>{v}</text:p></table:table-cell>'
        return f'<table:table-cell office:value-type="string"><text:p>{v}</text:p></table:table-cell>'
    body = "".join("<table:table-row>" + "".join(cell(v) for v in row) + "</table:table-row>" for row in rows)
    space = "urn:oasis:names:tc:opendocument:xmlns:"
    names = f'xmlns:office="{space}office:1.0" xmlns:table="{space}table:1.0" xmlns:text="{space}text:1.0"'
    mime = "application/vnd.oasis.opendocument.spreadsheet"
    return archive({
        "mimetype": mime,
        "META-INF/manifest.xml": f'<manifest:manifest xmlns:manifest="{space}manifest:1.0"><manifest:file-entry manifest:full-path="/" manifest:media-type="{mime}"/>'
        '<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>',
        "content.xml": f'<office:document-content {names} office:version="1.2"><office:body><office:spreadsheet><table:table table:name="Record">{body}</table:table>'
        "</office:spreadsheet></office:body></office:document-content>",
    })


def archive(files):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        for name, data in files.items():
            z.writestr(zipfile.ZipInfo(name, (2024, 1, 1, 0, 0, 0)), data)
    return out.getvalue()


def told(file, data, times, columns, offset=0, unreadable=0, foreign=0, order=None, encoding="utf-8", remark=None):
    """Writes a file and its truth. A column's value of None is missing; times may be a list for each column's table."""
    raw = data if isinstance(data, bytes | None) else data.encode(encoding)
    if data is not None:
        with open(os.path.join(HERE, file.split("/")[0]), "wb") as f:
            f.write(raw)
    cols = []
    for c in columns:
        at = times[c.table] if isinstance(times, dict) else times
        have = [(t, v) for (t, _), v in zip(at, c.values) if v is not None and v != "absent"]
        cols.append(dict(
            name=c.name, unit=c.unit, table=c.table or "", node=c.node or "", valid=len(have), missing=sum(v is None for v in c.values),
            sum=str(sum((v for _, v in have), Decimal(0))), stored=str(sum((v * c.factor + c.plus for _, v in have), Decimal(0))),
            times=str(sum(int(t.timestamp()) for t, _ in have)), first=have[0][0].strftime("%Y-%m-%dT%H:%M:%SZ"), last=max(t for t, _ in have).strftime("%Y-%m-%dT%H:%M:%SZ"),
            quantity=c.quantity, depth_cm=c.depth))
    TRUTH.append(dict(file=file, offset_minutes=offset, unreadable=unreadable, foreign=foreign, columns=cols, remark=remark))


def comma(v):
    return str(v).replace(".", ",")


def holes(values, *at):
    return [None if i in at else v for i, v in enumerate(values)]


def two(seed, n=300):
    return (series(seed, n, 0.25, 0.04, 0.001, 3), series(seed + 1, n, 12, 5, 0.1, 1))


def cell(v, none=""):
    return none if v is None else str(v)


def main():
    wet = dict(unit="m3/m3", quantity="water_content")
    warm = dict(unit="degC", quantity="soil_temperature")

    # Alder: plain comma, ISO with blank, one header line with units in brackets.
    g, (a, b) = grid("2024-03-01T00:00", 300), two(1)
    told("alder.csv", "time,wc_10 [m3/m3],ts_10 [degC]\n" + "".join(f"{w:%Y-%m-%d %H:%M},{x},{y}\n" for (_, w), x, y in zip(g, a, b)), g,
         [Column("wc_10 [m3/m3]", a, "", "water_content", 10), Column("ts_10 [degC]", b, "", "soil_temperature", 10)])

    # Birch: every field quoted, decimal comma between commas, thousands with points.
    g, b = grid("2024-05-01T00:00", 200, zone=fixed(60)), series(3, 200, 1880, 700, 0.1, 1)
    def euro(v):
        return f"{v:,.1f}".replace(",", "x").replace(".", ",").replace("x", ".")
    told("birch.csv", '"Zeit","Rohwert 20 [mV]"\r\n' + "".join(f'"{w:%d.%m.%Y %H:%M}","{euro(v)}"\r\n' for (_, w), v in zip(g, b)), g,
         [Column("Rohwert 20 [mV]", b, "", "raw_output", 20)], offset=60)

    # Cedar: tabs, day first with slashes, 12-hour clock in a column of its own, °F.
    g, b = grid("2024-06-10T00:00", 250), series(5, 250, 60, 9, 0.1, 1)
    told("cedar.tsv", "Date\tTime\tSoil temp 5 cm (°F)\n" + "".join(f"{w:%d/%m/%Y}\t{w:%I:%M:%S %p}\t{v}\n" for (_, w), v in zip(g, b)), g,
         [Column("Soil temp 5 cm (°F)", b, "", "soil_temperature", 5, factor=Decimal(5) / 9, plus=Decimal(-160) / 9)])

    # Dogwood: bars, month names in French, epoch nowhere.
    months = ["janv.", "févr.", "mars", "avr.", "mai", "juin", "juil.", "août", "sept.", "oct.", "nov.", "déc."]
    g, (a, b) = grid("2024-07-30T12:00", 260), two(7, 260)
    told("dogwood.txt", "horodatage|Teneur en eau 15 cm|Température du sol 15 cm\n" + "".join(
        f"{w.day} {months[w.month - 1]} {w.year} {w:%H:%M}|{x}|{y}\n" for (_, w), x, y in zip(g, a, b)), g,
        [Column("Teneur en eau 15 cm", a, "", "water_content", 15), Column("Température du sol 15 cm", b, "", "soil_temperature", 15)])

    # Elder: epoch seconds; Fir: epoch milliseconds, the value first.
    g, (a, _) = grid("2024-01-05T00:00", 200), two(9, 200)
    told("elder.csv", "ts,moist5\n" + "".join(f"{int(t.timestamp())},{x}\n" for (t, _), x in zip(g, a)), g, [Column("moist5", a, "", "water_content", 5)])
    told("fir.csv", "moist5,ts\n" + "".join(f"{x},{int(t.timestamp()) * 1000}\n" for (t, _), x in zip(g, a)), g, [Column("moist5", a, "", "water_content", 5)])

    # Gorse: spreadsheet days of 1900, decimal comma.
    g, (a, b) = grid("2023-03-15T00:00", 200, zone=fixed(120)), two(11, 200)
    def serial(w, epoch):
        return f"{(w - epoch).total_seconds() / 86400:.10f}"
    told("gorse.csv", "Datum;Bodenfeuchte 30 (Vol.-%);Bodentemp. 30 (°C)\n" + "".join(
        f"{comma(serial(w, d.datetime(1899, 12, 30)))};{comma(x * 100)};{comma(y)}\n" for (_, w), x, y in zip(g, a, b)), g,
        [Column("Bodenfeuchte 30 (Vol.-%)", [x * 100 for x in a], "", "water_content", 30, factor="0.01"), Column("Bodentemp. 30 (°C)", b, "", "soil_temperature", 30)], offset=120)

    # Hazel: year, day of year and hhmm without leading zeros, 2400 at midnight, no header.
    g, (a, b) = grid("2023-05-05T18:15", 400), two(13, 400)
    lines = []
    for (_, w), x, y in zip(g, a, b):
        day = w - d.timedelta(days=1) if (w.hour, w.minute) == (0, 0) else w
        hm = 2400 if (w.hour, w.minute) == (0, 0) else w.hour * 100 + w.minute
        lines.append(f"{day.year},{day.timetuple().tm_yday},{hm},{x},{y}\n")
    told("hazel.dat", "".join(lines), g, [Column("column 4", a), Column("column 5", b)])

    # Ivy: year, month, day, hour, minute in columns out of order, with names.
    told("ivy.csv", "day,month,year,minute,hour,wc20\n" + "".join(f"{w.day},{w.month},{w.year},{w.minute},{w.hour},{x}\n" for (_, w), x in zip(g, a)), g,
         [Column("wc20", a, "", "water_content", 20)])

    # Juniper: basic ISO, offset without a colon; Larch: a blank and an offset.
    z = grid("2024-03-29T12:00", 250, zone=fixed(120))
    (a, b) = two(15, 250)
    told("juniper.csv", "stamp;theta 5\n" + "".join(f"{w:%Y%m%dT%H%M}+0200;{x}\n" for (_, w), x in zip(z, a)), z, [Column("theta 5", a, "", "water_content", 5)])
    told("larch.csv", "stamp;theta 5\n" + "".join(f"{w:%Y-%m-%d %H:%M:%S} +02:00;{x}\n" for (_, w), x in zip(z, a)), z, [Column("theta 5", a, "", "water_content", 5)])

    # Maple: summer time without a word, an hour twice far down the file; Nettle: the same, the newest first.
    paris = zoneinfo.ZoneInfo("Europe/Paris")
    z = grid("2023-09-20T00:00", 1200, 3600, paris)
    b = series(17, 1200, 12, 5, 0.1, 1, 3600)
    told("maple.csv", "time,t10 [°C]\n" + "".join(f"{w:%Y-%m-%d %H:%M},{y}\n" for (_, w), y in zip(z, b)), z, [Column("t10 [°C]", b, "", "soil_temperature", 10)])
    told("nettle.csv", "time,t10 [°C]\n" + "".join(f"{w:%Y-%m-%d %H:%M},{y}\n" for (_, w), y in reversed(list(zip(z, b)))), z[::-1],
         [Column("t10 [°C]", b[::-1], "", "soil_temperature", 10)])
    # Oak: the other hemisphere, one missing hour only.
    z = grid("2023-09-01T00:00", 1200, 3600, zoneinfo.ZoneInfo("Australia/Sydney"))
    told("oak.csv", "time,t10 [°C]\n" + "".join(f"{w:%Y-%m-%d %H:%M},{y}\n" for (_, w), y in zip(z, b)), z, [Column("t10 [°C]", b, "", "soil_temperature", 10)], offset=600)
    # Pine: a letter tells summer from normal time, explained in the head; Quince: abbreviations of zones.
    z = grid("2023-10-20T00:00", 900, 900, zoneinfo.ZoneInfo("Europe/Helsinki"))
    (a, b) = two(19, 900)
    def summer(t, name):
        return bool(t.astimezone(zoneinfo.ZoneInfo(name)).dst())
    told("pine.csv", "station hut; N = UTC+2, S = UTC+3\ndate;clock;sn;t10\n" + "".join(
        f"{w:%d.%m.%Y};{w:%H:%M};{'S' if summer(t, 'Europe/Helsinki') else 'N'};{y}\n" for (t, w), y in zip(z, b)), z, [Column("t10", b, "", "soil_temperature", 10)])
    z = grid("2023-10-20T00:00", 900, 900, paris)
    told("quince.csv", "Zeit;t10\n" + "".join(f"{w:%d.%m.%Y %H:%M} {'MESZ' if summer(t, 'Europe/Paris') else 'MEZ'};{y}\n" for (t, w), y in zip(z, b)), z,
         [Column("t10", b, "", "soil_temperature", 10)])

    # Rowan: six header lines, names in the third, units and processing around them, all of it again after a restart.
    g, (a, b) = grid("2024-02-01T00:00", 300), two(21)
    a = holes(a, 5, 6, 200)
    head = '"Rowan bank","box 7","program 2","UTC+0"\n"unit","","m3/m3","degC"\n"TIME","NR","SM_20","ST_20"\n"made of","","Avg","Smp"\n"wire","","1","2"\n"cal","","f3","f4"\n'
    body = [f'"{w:%Y-%m-%d %H:%M:%S}",{i},{cell(x, chr(34) + "NAN" + chr(34))},{y}\n' for i, ((_, w), x, y) in enumerate(zip(g, a, b))]
    told("rowan.dat", head + "".join(body[:150]) + head + "".join(body[150:]), g,
         [Column("SM_20", a, "m3/m3", "water_content", 20), Column("ST_20", b, "degC", "soil_temperature", 20)], remark="six header lines")

    # Sallow: ring memory, records before the header.
    g, (a, b) = grid("2024-02-01T00:00", 300), two(23)
    body = [f"{w:%Y-%m-%d %H:%M},{x},{y}\n" for (_, w), x, y in zip(g, a, b)]
    told("sallow.csv", "".join(body[:40]) + "time,wc5,ts5\n" + "".join(body[40:]), g, [Column("wc5", a, "", "water_content", 5), Column("ts5", b, "", "soil_temperature", 5)])

    # Tansy: records of an earlier program of fewer columns before the header.
    told("tansy.csv", "".join(f"{w:%Y-%m-%d %H:%M},{x}\n" for (_, w), x in zip(g[:40], a[:40])) + "time,wc5,ts5\n" + "".join(body[40:]), g,
         [Column("column 2", a[:40] + ["absent"] * 260), Column("wc5", ["absent"] * 40 + a[40:], "", "water_content", 5), Column("ts5", ["absent"] * 40 + b[40:], "", "soil_temperature", 5)])

    # Umbel: a new program inserts a column and renames another.
    c = series(25, 300, 0.3, 0.02, 0.001, 3)
    told("umbel.csv", "time;wc5;ts5\n" + "".join(f"{w:%Y-%m-%d %H:%M};{x};{y}\n" for (_, w), x, y in zip(g[:120], a, b)) + "time;wc30;wc5;ts_05\n" + "".join(
        f"{w:%Y-%m-%d %H:%M};{z};{x};{y}\n" for (_, w), x, y, z in zip(g[120:], a[120:], b[120:], c[120:])), g,
        [Column("wc5", a, "", "water_content", 5), Column("ts5", b[:120] + ["absent"] * 180, "", "soil_temperature", 5),
         Column("wc30", ["absent"] * 120 + c[120:], "", "water_content", 30), Column("ts_05", ["absent"] * 120 + b[120:], "", "soil_temperature", 5)])

    # Violet: two tables by a number in each line, no header.
    day = grid("2024-02-02T00:00", 3, 86400)
    lines, k = [], 0
    for (t, w), x, y in zip(g, a, b):
        lines.append(f"101,{w.year},{w.timetuple().tm_yday},{w.hour * 100 + w.minute},{x},{y}\n")
        if (w.hour, w.minute) == (0, 0) and k < 3 and w.date() >= day[0][1].date():
            lines.append(f"202,{w.year},{w.timetuple().tm_yday},0,{c[k]}\n")
            k += 1
    told("violet.dat", "".join(lines), {"101": g, "202": day}, [Column("column 5", a, table="101"), Column("column 6", b, table="101"), Column("column 5", c[:3], table="202")])

    # Willow: blocks with headers in brackets, ISO days in one of them.
    hours = grid("2024-02-01T00:00", 40, 3600)
    told("willow.txt", "[QUARTERS]\ntime;wc5\n" + "".join(f"{w:%Y-%m-%dT%H:%M}Z;{x}\n" for (_, w), x in zip(g[:100], a)) + "\n[DAYS]\ndate;rain\n" + "".join(
        f"{w:%Y-%m-%d};{c[i]}\n" for i, (_, w) in enumerate(day)) + "\n[QUARTERS]\ntime;wc5\n" + "".join(f"{w:%Y-%m-%dT%H:%M}Z;{x}\n" for (_, w), x in zip(g[100:], a[100:])),
        {"QUARTERS": g, "DAYS": day}, [Column("wc5", a, "", "water_content", 5, table="QUARTERS"), Column("rain", c[:3], "", "rain", table="DAYS")])

    # Yarrow: long form, value before channel; sent in blocks out of order.
    rows = [(t, w, n, v) for (t, w), x, y in zip(g, a, b) for n, v in (("wc_5", x), ("ts_5", y))]
    rows = rows[200:400] + rows[:200] + rows[400:]
    order = [i for i in list(range(100, 200)) + list(range(100)) + list(range(200, 300))]
    told("yarrow.csv", "time,value,channel\n" + "".join(f"{w:%Y-%m-%d %H:%M},{v},{n}\n" for _, w, n, v in rows), [g[i] for i in order],
         [Column("wc_5", [a[i] for i in order], "", "water_content", 5), Column("ts_5", [b[i] for i in order], "", "soil_temperature", 5)])

    # Aster: key=value with a CRC-16 (Modbus) and noise on two lines.
    def crc16(data):
        crc = 0xFFFF
        for byte in data:
            crc ^= byte
            for _ in range(8):
                crc = (crc >> 1) ^ 0xA001 if crc & 1 else crc >> 1
        return crc
    lines = []
    for i, ((_, w), x, y) in enumerate(zip(g, a, b)):
        line = f"t={w:%Y-%m-%dT%H:%M};m5={x};t5={y}"
        line = f"{line}*{crc16(line.encode()):04X}"
        lines.append((line.replace("m5=", "m5~") if i in (50, 170) else line) + "\n")
    gone = lambda v: ["absent" if i in (50, 170) else x for i, x in enumerate(v)]
    told("aster.log", "".join(lines), g, [Column("m5", gone(a), "", None, 5), Column("t5", gone(b), "", "soil_temperature", 5)], unreadable=2)

    # Bracken: fixed columns, empty cells, numbers that touch.
    cold = series(27, 300, -104, 9, 0.1, 1)
    x = holes(b, 3, 4, 77)
    told("bracken.dat", "".join(f"{w:%Y-%m-%d %H:%M}{cell(p):>8}{q:>6}\n" for (_, w), p, q in zip(g, x, cold)), g, [Column("column 3", x), Column("column 4", cold)])

    # Clover: UTF-16 with a mark, semicolons; Daisy: lone carriage returns; Erica: zero bytes of a power loss.
    told("clover.txt", b"\xff\xfe" + ("Zeit;Feuchte θ 5 cm [m³/m³]\r\n" + "".join(f"{w:%d.%m.%Y %H:%M};{comma(v)}\r\n" for (_, w), v in zip(g, a))).encode("utf-16-le"), g,
         [Column("Feuchte θ 5 cm [m³/m³]", a, "", "water_content", 5)])
    told("daisy.csv", "time,wc5\r" + "".join(f"{w:%Y-%m-%d %H:%M},{v}\r" for (_, w), v in zip(g, a)), g, [Column("wc5", a, "", "water_content", 5)])
    told("erica.csv", b"time,wc5\n" + b"".join(f"{w:%Y-%m-%d %H:%M},{v}\n".encode() for (_, w), v in list(zip(g, a))[:100]) + b"\0" * 4096 + b"\n" + b"".join(
        f"{w:%Y-%m-%d %H:%M},{v}\n".encode() for (_, w), v in list(zip(g, a))[100:]), g, [Column("wc5", a, "", "water_content", 5)])

    # Flax: counts about 6999 that are readings, and 6999 that is a mark in another column; signs behind numbers.
    rng = random.Random(29)
    counts = [Decimal(6990 + rng.randrange(20)) for _ in range(300)]
    y = holes(b, 10, 11, 250)
    told("flax.csv", "time,counts5 [counts],t5 [degC]\n" + "".join(
        f"{w:%Y-%m-%d %H:%M},{p},{cell(q, '6999')}{'*' if i in (30, 31) else ' R' if i in (90, 91, 92) else ''}\n" for i, ((_, w), p, q) in enumerate(zip(g, counts, y))), g,
        [Column("counts5 [counts]", counts, "", "raw_output", 5), Column("t5 [degC]", y, "", "soil_temperature", 5)])

    # Gale: two loggers in one file, told by a column; Heath: a commented header; Iris: hPa below zero.
    both = [(w, n, v) for (_, w), x, y in zip(g, a, c) for n, v in (("N1", x), ("N2", y))]
    told("gale.csv", "logger,time,wc5\n" + "".join(f"{n},{w:%Y-%m-%d %H:%M},{v}\n" for w, n, v in both), g,
         [Column("wc5", a, "", "water_content", 5, node="N1"), Column("wc5", c, "", "water_content", 5, node="N2")])
    told("heath.txt", "# read on the first of March\n# time wc_5 ts_5\n# - m3/m3 degC\n" + "".join(f"{w:%Y-%m-%dT%H:%M} {x} {y}\n" for (_, w), x, y in zip(g, a, b)), g,
         [Column("wc_5", a, "m3/m3", "water_content", 5), Column("ts_5", b, "degC", "soil_temperature", 5)])
    suction = [-v * 30 for v in b]
    told("iris.csv", "fecha;Potencial matricial 40 cm (hPa)\n" + "".join(f"{w:%Y-%m-%d %H:%M};{v}\n" for (_, w), v in zip(g, suction)), g,
         [Column("Potencial matricial 40 cm (hPa)", suction, "", "water_tension", 40, factor="-0.1")])

    # Jasmine: gzip; Knapweed: a zip of two; Lilac: a quoted header with breaks in it.
    told("jasmine.csv.gz", gzip.compress(("time,wc5\n" + "".join(f"{w:%Y-%m-%d %H:%M},{v}\n" for (_, w), v in zip(g, a))).encode(), mtime=0), g, [Column("wc5", a, "", "water_content", 5)])
    told("lilac.csv", '"Date\ntime","Soil water\n(m3/m3)\n20 cm","Remark"\n' + "".join(f'{w:%Y-%m-%d %H:%M},{x},{chr(34) + "cow" + chr(10) + "gone" + chr(34) if i == 40 else ""}\n' for i, ((_, w), x) in enumerate(zip(g, a))), g,
         [Column("Soil water (m3/m3) 20 cm", a, "", "water_content", 20)])

    # Mallow: day, month and a two-digit year, no separator in date and clock; Nigella: hours and minutes with a letter.
    told("mallow.csv", "date,clock,wc5\n" + "".join(f"{w:%d%m%y},{w:%H%M},{v}\n" for (_, w), v in zip(g, a)), g, [Column("wc5", a, "", "water_content", 5)])
    told("nigella.csv", "date;heure;wc5\n" + "".join(f"{w:%d/%m/%Y};{w:%Hh%M};{v}\n" for (_, w), v in zip(g, a)), g, [Column("wc5", a, "", "water_content", 5)])
    # Orchid: a time that cannot be read in the first record, a quote torn, a cell that is no number, a line cut off at the end.
    lines = [f"{w:%Y-%m-%d %H:%M},{x},{y}\n" for (_, w), x, y in zip(g, a, b)]
    lines[0] = lines[0].replace("2024-02-01", "2024-02-3x")
    lines[20] = lines[20].replace(",", ',"', 1)
    lines[40] = lines[40].replace(f",{b[40]}", ",ERR")
    lines[-1] = lines[-1][:12]
    lost = lambda v, *more: ["absent" if i in (0, 20, 299, *more) else x for i, x in enumerate(v)]
    told("orchid.csv", "time,wc5,ts5\n" + "".join(lines), g, [Column("wc5", lost(a), "", "water_content", 5), Column("ts5", lost(b, 40), "", "soil_temperature", 5)], unreadable=3)

    # Poppy: a workbook; Knapweed: an archive of two files.
    told("poppy.xlsx/Record", sheet([["Time", "wc5", "ts5"]] + [[w, x, y] for (_, w), x, y in zip(g, a, b)]), g,
         [Column("wc5", a, "", "water_content", 5), Column("ts5", b, "", "soil_temperature", 5)])
    told("peony.ods/Record", table([["Time", "wc5", "ts5"]] + [[w, x, y] for (_, w), x, y in zip(g, a, b)]), g,
         [Column("wc5", a, "", "water_content", 5), Column("ts5", b, "", "soil_temperature", 5)])
    plain = "".join(f"{w:%Y-%m-%d %H:%M},{v}\n" for (_, w), v in zip(g, a))
    told("knapweed.zip/one.csv", archive({"one.csv": "time,wc5\n" + plain, "two.csv": "time,wc30\n" + plain, ".notes": "none"}), g, [Column("wc5", a, "", "water_content", 5)])
    told("knapweed.zip/two.csv", None, g, [Column("wc30", a, "", "water_content", 30)])

    with open(os.path.join(HERE, "truth.json"), "w", encoding="utf-8") as f:
        json.dump(TRUTH, f, indent=1, ensure_ascii=False)
        f.write("\n")
    print(len(TRUTH), "files")


main()
