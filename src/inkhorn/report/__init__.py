"""The report of a run: one HTML file to hand over."""

from inkhorn.report.page import report, write_report

__all__ = ["report", "write_report"]
