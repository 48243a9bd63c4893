"""Settings files of sites, in the forms in which they are written: reading a key, and setting one while everything else
in the file stays as it is. Nothing in them is ever executed."""

from keenharbor.site.settings.common import LARGEST_SETTINGS_FILE, Setting, SettingsError, joined_key, key_parts
from keenharbor.site.settings.forms import (
    FORMS,
    SettingsForm,
    form_of,
    read_settings,
    settings_in,
    values_in,
    with_value,
    with_values,
)

__all__ = [
    "FORMS",
    "LARGEST_SETTINGS_FILE",
    "Setting",
    "SettingsError",
    "SettingsForm",
    "form_of",
    "joined_key",
    "key_parts",
    "read_settings",
    "settings_in",
    "values_in",
    "with_value",
    "with_values",
]
