"""Widgets that know no place: the theme, charts, forms, sheets."""
