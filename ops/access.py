"""Print the table of who reaches which route, made from the one that the server goes by: docs/access.md."""

from kind_echo.bench.accounts import ROLE_TITLES, ROLES, SCOPES, Caller
from kind_echo.web.security.reach import REACH

_HEAD = """\
# Who reaches what

Made from the server's own table by `make types`; a check fails when it is stale, and a test walks every route as each
of them. *Nobody* is who has not signed in; *Viewer*, *Engineer* and *Administrator* are roles of people; *read*,
*submit* and *render* are scopes of tokens. Beside the table, approving and restoring references, and undoing that, asks
for *Administrator*. A route that is not here lets nobody in.
"""


def main() -> None:
    """One line a route, a mark for each who comes in."""
    people = [Caller(ROLE_TITLES[role], role=role) for role in ROLES]
    programs = [Caller(scope, scope=scope) for scope in SCOPES]
    print(_HEAD)
    print(f"| route | nobody | {' | '.join(c.name for c in people + programs)} |")
    print(f"| --- |{' :-: |' * (1 + len(people + programs))}")
    for route, reach in sorted(REACH.items(), key=lambda item: item[0].split(" ")[::-1]):
        marks = ["✓" if reach.is_open else "", *("✓" if reach.admits(caller) else "" for caller in people + programs)]
        print(f"| `{route}` | {' | '.join(marks)} |")
    print(f"\n{len(REACH)} routes.")


if __name__ == "__main__":
    main()
