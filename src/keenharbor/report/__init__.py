"""Reports from finished results."""

from keenharbor.report.junit import junit
from keenharbor.report.trial import write_report

__all__ = ["junit", "write_report"]
