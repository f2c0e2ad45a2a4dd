"""What every measure shares: its declaration, its readings and limits, its errors and versions."""
