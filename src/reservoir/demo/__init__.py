"""The Sable Harbour ferry line: a plan as a hurried person wrote it, and the same plan right."""
