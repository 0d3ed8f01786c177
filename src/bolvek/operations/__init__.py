"""Operations: each takes a mesh and frozen settings, returns a new mesh and a record."""
