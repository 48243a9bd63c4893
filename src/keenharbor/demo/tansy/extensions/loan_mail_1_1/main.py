"""Writes to each borrower."""

import smtplib
from email.message import EmailMessage


def register(site):
    def write(name, email, seed):
        message = EmailMessage()
        message["From"] = site.settings["mail.sender"]
        message["To"] = email
        message["Subject"] = f"Your loan: {seed['name']}"
        message.set_content(f"Dear {name},\n\nsow it at {site.settings['site.address']}/varieties/{seed['slug']}\n")
        try:
            with smtplib.SMTP(site.settings["mail.host"], int(site.settings["mail.port"]), timeout=5) as server:
                server.send_message(message)
        except OSError as error:
            site.log_error(f"mail to a borrower was not sent: {error}")

    site.after_loan.append(write)
