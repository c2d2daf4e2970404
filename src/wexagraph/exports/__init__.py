"""Files from messages: plan, names, writers, journal, register and checksums."""

from wexagraph.exports.options import ARCHIVE_FORMATS, MESSAGE_FORMATS, ExportOptions
from wexagraph.exports.report import Failure, Progress, Report
from wexagraph.exports.run import export

__all__ = ["ARCHIVE_FORMATS", "MESSAGE_FORMATS", "ExportOptions", "Failure", "Progress", "Report", "export"]
