"""Clones: disposable copies of a site, made from a snapshot, that cannot reach the live one."""
