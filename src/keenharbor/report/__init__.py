"""Reports made from finished results."""

from keenharbor.report.trial import write_report

__all__ = ["write_report"]
