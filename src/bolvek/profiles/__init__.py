"""Printers and materials: generic classes that ship with Bolvek, and the user's own that override them."""

from bolvek.profiles.store import Material, Printer, Profiles, limits, load_profiles, user_files, user_folder

__all__ = ["Material", "Printer", "Profiles", "limits", "load_profiles", "user_files", "user_folder"]
