"""The computation: addresses, plan, lending, checks. No interface code, files or dialects."""
