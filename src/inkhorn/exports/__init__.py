"""The results of a run in formats that other programs read."""

from inkhorn.exports.export import CONTENTS, FORMATS, export

__all__ = ["CONTENTS", "FORMATS", "export"]
