"""General widgets: cards, forms and fields, small plots, markers, search lists."""
