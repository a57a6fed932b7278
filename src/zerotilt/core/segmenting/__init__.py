"""Parts of the table: made, cut and compared."""
