"""What would change a prediction: real cases, edited cases, another group."""
