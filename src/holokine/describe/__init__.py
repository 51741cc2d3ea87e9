"""What the analyst wrote: reading, units, validation. No numerics."""

from holokine.describe.document import Document, read_document
from holokine.describe.references import check_references
from holokine.describe.schema import Description

__all__ = ["Description", "Document", "check_references", "read_document"]
