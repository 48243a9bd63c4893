"""Reports from finished results."""

from typing import TYPE_CHECKING

from keenharbor.base.lazily import offered

if TYPE_CHECKING:
    from keenharbor.report.junit import junit
    from keenharbor.report.trial import write_report
else:
    __getattr__ = offered(
        __name__,
        {
            "junit": "junit",
            "trial": "write_report",
        },
    )

__all__ = ["junit", "write_report"]
