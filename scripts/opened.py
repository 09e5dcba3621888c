"""Opens the files of a folder with other programs' eyes and compares them with rows.csv in it.

Usage: opened.py FOLDER. Prints what was opened as JSON; ends with an error where a file is not sound or says something
else. rows.*.xlsx-csv are sheets that a spreadsheet program has written as text.
"""

import csv
import datetime
import decimal
import glob
import json
import os
import sys
import xml.etree.ElementTree
import zipfile

import html5lib
import openpyxl
import pikepdf

folder = sys.argv[1]
opened = {}


def moment(text):
    return datetime.datetime.fromisoformat(text.replace("Z", ""))


def value(text):
    return None if text == "" else decimal.Decimal(text).normalize()


def same(rows, what):
    """Holds rows of (time, values) against those of rows.csv."""
    count = 0
    for (time, values), (other, others) in zip(rows, expected, strict=True):
        assert time == other and values == others, f"{what}: {time} {values} is not {other} {others}"
        count += 1
    opened[what] = count


with open(os.path.join(folder, "rows.csv"), newline="") as file:
    lines = list(csv.reader(file))
header = lines[0]
expected = [(moment(line[0]), [value(cell) for cell in line[1:]]) for line in lines[1:]]


def number(cell):
    # A sheet holds numbers with 15 digits.
    return None if cell is None else decimal.Decimal(f"{cell:.15g}").normalize()


for path in sorted(glob.glob(os.path.join(folder, "*"))):
    name = os.path.basename(path)
    if name.endswith(".xlsx"):
        with zipfile.ZipFile(path) as parts:
            assert parts.testzip() is None
            for part in parts.namelist():
                if part.endswith((".xml", ".rels")):
                    xml.etree.ElementTree.fromstring(parts.read(part))
        book = openpyxl.load_workbook(path, read_only=True)
        found = []
        for sheet in book.worksheets:
            rows = sheet.iter_rows(values_only=True)
            first = next(rows, None)
            if first is not None and list(first[: len(header)]) == header:
                wide = (list(row) + [None] * len(header) for row in rows)
                found += [(row[0], [number(cell) for cell in row[1 : len(header)]]) for row in wide]
        same(found, name)
    elif name.endswith(".xlsx-csv"):
        with open(path, newline="") as file:
            rows = csv.reader(file)
            assert next(rows) == header, name
            same([(moment(row[0]), [value(cell) for cell in row[1:]]) for row in rows], name)
    elif name.endswith(".html"):
        with open(path, "rb") as file:
            page = html5lib.HTMLParser(strict=True).parse(file)
        opened[name] = len(page.findall(".//{http://www.w3.org/1999/xhtml}tr"))
    elif name.endswith(".svg"):
        opened[name] = len(list(xml.etree.ElementTree.parse(path).iter()))
    elif name.endswith(".pdf"):
        with pikepdf.open(path) as document:
            faults = document.check_pdf_syntax() if hasattr(document, "check_pdf_syntax") else document.check()
            assert not faults, f"{name}: {faults}"
            opened[name] = len(document.pages)
print(json.dumps(opened))
