"""Tansy's command: serve the site, bring its tables up to date, run the nightly tasks, switch extensions."""

import argparse
import datetime
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent


def main():
    from core import app, rules, upkeep

    parser = argparse.ArgumentParser(prog="tansy.py")
    commands = parser.add_subparsers(dest="command", required=True)
    serve = commands.add_parser("serve", help="answer visitors")
    serve.add_argument("--port", type=int)
    serve.add_argument("--socket", type=int, help="a listening socket that was handed down")
    migrate = commands.add_parser("migrate", help="bring tables up to date")
    migrate.add_argument("owner", nargs="?", default="core", help="core, or the name of an extension")
    nightly = commands.add_parser("nightly", help="run the nightly tasks")
    nightly.add_argument("--today", type=datetime.date.fromisoformat)
    switch = commands.add_parser("extension", help="switch an extension on or off")
    switch.add_argument("state", choices=["on", "off"])
    switch.add_argument("name")
    commands.add_parser("purge", help="empty the page cache")
    commands.add_parser("check", help="check the requirements")
    commands.add_parser("version")
    options = parser.parse_args()

    if options.command == "version":
        print((ROOT / "core" / "VERSION").read_text().strip())
        return 0
    missing = rules.unmet_requirements()
    if missing:
        for line in missing:
            print(f"tansy: {line}", file=sys.stderr)
        return 1
    if options.command == "check":
        print("all requirements are met")
        return 0
    site = app.Site(ROOT)
    if options.command == "serve":
        return app.serve(site, port=options.port, descriptor=options.socket)
    if options.command == "migrate":
        return upkeep.migrate(site, options.owner)
    if options.command == "nightly":
        return upkeep.nightly(site, options.today)
    if options.command == "purge":
        print(f"{site.cache.purge()} cached pages removed")
        return 0
    return upkeep.switch(site, options.name, options.state == "on")


if __name__ == "__main__":
    raise SystemExit(main())
