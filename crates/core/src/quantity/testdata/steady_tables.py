#!/usr/bin/env python3
"""Makes steady_tables.txt beside this: 200 random tables of rounds, and the first window of five that is steady by
SNIA PTS-E 2.0, 2.1.24, reckoned here in exact fractions, independently of the program. A line: the first round of the window from 0
or -, then the rounds; - is a round without a figure."""
import random
from fractions import Fraction as F

def steady(window):
    n, mean = len(window), sum(window) / len(window)
    xs = [F(i) for i in range(n)]
    mx = sum(xs) / n
    slope = sum((x - mx) * (y - mean) for x, y in zip(xs, window)) / sum((x - mx) ** 2 for x in xs)
    line = [mean + slope * (x - mx) for x in xs]
    return max(window) - min(window) <= mean / 5 and max(line) - min(line) <= mean / 10

rng = random.Random(20)
for _ in range(200):
    many, level = rng.randint(3, 25), rng.uniform(50, 5000)
    fall, tau, noise = rng.uniform(0, 3), rng.uniform(0.5, 6), rng.choice([0.005, 0.03, 0.06, 0.1])
    rounds = [round(max(level * (1 + fall * 2.718281828 ** (-i / tau)) * rng.gauss(1, noise), 1), 3) for i in range(many)]
    told = [None if rng.random() < 0.02 else r for r in rounds]
    first = next((i for i in range(many - 4) if None not in told[i:i + 5] and steady([F(str(r)) for r in told[i:i + 5]])), None)
    print("-" if first is None else first, *("-" if r is None else r for r in told))
