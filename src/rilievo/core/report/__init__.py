"""What is handed over: figures, tables, the HTML report."""
