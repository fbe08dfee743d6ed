"""One catalogue for each language but English, as gettext has them."""
