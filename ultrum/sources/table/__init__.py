"""Tables as people publish them: detected, typed, and reported on."""
