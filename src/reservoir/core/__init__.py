"""The computation: addresses, plan, pools, checks. No interface code, files or dialects."""
