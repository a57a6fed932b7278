"""Pockets: places described by few conditions where errors are denser, searched on some rows and confirmed on others."""
