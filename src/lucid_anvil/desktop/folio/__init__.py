"""The Folio: papers and their pages."""
