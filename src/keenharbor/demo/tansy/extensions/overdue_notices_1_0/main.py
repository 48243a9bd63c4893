"""Each night: members whose packets are overdue may not borrow more."""

import datetime

import loam


def register(site):
    def suspend(_site, day):
        with site.engine.work() as work:
            late = set()
            for loan in work.all("SELECT email, due_on FROM loans WHERE returned_on IS NULL"):
                due = datetime.date.fromisoformat(loan["due_on"])
                if loam.day_text(due) < loam.day_text(day):
                    late.add(loan["email"])
            for email in sorted(late):
                work.run("UPDATE members SET suspended = 1 WHERE email = ?", email)
        return f"{len(late)} borrowers are overdue"

    site.nightly_tasks.append(("overdue-notices", suspend))
