"""The page docs/findings.md, written from the table of rules: `python -m bricola.core.review.page`."""

import sys
from itertools import groupby

from bricola.core.review.rules import all_rules

_HEAD = """# Findings of the readiness review

`bricola review SERVICE ENVIRONMENT` lists everything that stands between a draft and a sound deployment, before any button is
pressed; the console and the deployment's first gate show the same list. An **error** stops a release or a deployment, a **warning**
or a **hint** does not. Each finding says where, what was expected and found, and how to mend it. Where the mend is *mechanical*,
`bricola mend SERVICE ENVIRONMENT [--code CODE]` or the button beside the finding does it, as a new draft.

Only what concerns the service is reviewed. This page is written from the code: `python -m bricola.core.review.page`.
"""
_AREAS = {
    "service": "The service and its definitions", "contract": "The contract", "environment": "The environment",
    "security": "Security", "capacity": "Capacity",
}


def write_page() -> str:
    parts = [_HEAD]
    for area, rules in groupby(all_rules().values(), key=lambda one: one.area):
        parts.append(f"\n## {_AREAS[area]}\n\n| code | severity | why | mend |\n| --- | --- | --- | --- |\n")
        parts += [f"| `{one.code}` | {one.severity} | {one.reason} | {'mechanical' if one.mechanical else ''} |\n" for one in rules]
    return "".join(parts)


if __name__ == "__main__":
    sys.stdout.write(write_page())
