"""What people do with plans from Python; :mod:`reservoir` offers it.

No function prints or changes a file. Files that can't be used raise :class:`InputError`, unknown
names of rules, devices or dialects :class:`UnknownNameError`.
"""
