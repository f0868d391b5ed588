"""The language server: what an editor asks, answered by the public interface.

Knows nothing of its own: it turns positions into places, and what is found into what the Language
Server Protocol has for it. Columns here count characters from 1; the protocol's are told apart by
``positions``.
"""
