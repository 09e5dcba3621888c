"""Writes a CSV file of ten years of made-up minutes, Monday to Friday: `write_minutes.py PATH`."""

import datetime
import random
import sys

random.seed(3)
day, end, price = datetime.date(2014, 1, 1), datetime.date(2024, 1, 1), 98765
with open(sys.argv[1], "w") as out:
    out.write("Time (UTC),Open,High,Low,Close,Volume,Spread\n")
    while day < end:
        if day.weekday() < 5:
            for minute in range(1440):
                close = max(50000, price + random.randint(-9, 9))
                high, low = max(price, close) + random.randint(0, 5), min(price, close) - random.randint(0, 5)
                prices = ",".join(f"{p / 1e5:.5f}" for p in (price, high, low, close))
                volume, spread = random.randint(1, 99), random.randint(5, 20)
                out.write(f"{day} {minute // 60:02}:{minute % 60:02},{prices},{volume},{spread}\n")
                price = close
        day += datetime.timedelta(days=1)
