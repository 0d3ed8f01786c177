"""Pictures of what analyses found and operations made."""
