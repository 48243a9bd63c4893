"""Events at /calendar. Since 2.0 the list is put together day by day, ready for a month view."""

import datetime

import loam


def event_line(event):
    """One event as a line of the list."""
    parts = [f"<strong>{loam.escape(event['title'])}</strong>"]
    parts.append(f"{event['starts'][:10]} at {loam.escape(event['place'])}")
    return "<li>" + ", ".join(parts) + "</li>"


def days(first, last):
    day = first
    while day <= last:
        yield day
        day += datetime.timedelta(days=1)


def register(site):
    def calendar(request):
        with site.engine.work() as work:
            span = work.one("SELECT MIN(starts) AS first, MAX(starts) AS last FROM events")
            lines = ""
            first, last = (datetime.date.fromisoformat(span[k][:10]) for k in ("first", "last"))
            for day in days(first, last):
                of_day = "FROM events WHERE substr(starts, 1, 10) = ?"
                events = work.all(f"SELECT * {of_day} ORDER BY starts, id", day.isoformat())
                busy = work.one(f"SELECT COUNT(*) AS n {of_day}", day.isoformat())["n"]
                lines += "".join(event_line(e) for e in events[:busy])
        return site.page(request, "Calendar", f'<h1>Calendar</h1><section id="events"><ul>{lines}</ul></section>')

    site.routes["/calendar"] = calendar
