"""Events at /calendar."""

import loam


def event_line(event):
    """One event as a line of the list."""
    parts = [f"<strong>{loam.escape(event['title'])}</strong>"]
    parts.append(f"{event['starts'][:10]} at {loam.escape(event['place'])}")
    return "<li>" + ", ".join(parts) + "</li>"


def register(site):
    def calendar(request):
        with site.engine.work() as work:
            events = work.all("SELECT * FROM events ORDER BY starts, id")
        lines = "".join(event_line(e) for e in events)
        return site.page(request, "Calendar", f'<h1>Calendar</h1><section id="events"><ul>{lines}</ul></section>')

    site.routes["/calendar"] = calendar
