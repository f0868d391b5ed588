"""Bytes in and out: plan files, tables, places for findings, whole-or-not-at-all writing."""
