"""Print the tests that were skipped, and why: a missing browser or shell must not go unseen.

    python tools/skipped.py REPORT.xml...

A report is what pytest writes with --junitxml.
"""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path

from defusedxml import ElementTree


def main(reports: list[str]) -> None:
    why: Counter[str] = Counter()
    for report in reports:
        for skipped in ElementTree.parse(Path(report)).iter("skipped"):
            why[skipped.get("message", "no reason")] += 1
    print(f"skipped tests: {sum(why.values())}")
    for reason, count in why.most_common():
        print(f"  {count:4d}  {reason}")


if __name__ == "__main__":
    main(sys.argv[1:])
