"""What people look at: findings as text; later figures and pages."""
