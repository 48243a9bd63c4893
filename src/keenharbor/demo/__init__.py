"""The demonstration: a made-up site on a stand-in content system, its packages, and a story that uses every command."""
