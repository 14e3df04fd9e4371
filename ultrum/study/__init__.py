"""The study file: the whole job in one TOML file, checked before anything is downloaded."""
