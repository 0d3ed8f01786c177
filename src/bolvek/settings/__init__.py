"""Every setting, described once: default, unit, range and help. The command line, the checks and the schema read it.

A floor of its own that knows units and errors only, so that help needs no numbers to be loaded.
"""

from bolvek.settings.describe import Setting, SettingError, Settings, described, setting, settings_dict
from bolvek.settings.remedy import Remedy, remedy

__all__ = ["Remedy", "Setting", "SettingError", "Settings", "described", "remedy", "setting", "settings_dict"]
