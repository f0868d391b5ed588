"""The computation: addresses, the plan, lending, checks. No interface code, no files, no dialects."""
