"""Lexical forms: how a value of each type is written in a dialect, and read from it."""
