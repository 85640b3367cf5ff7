"""The stage Correct: the steps of the method as cards."""
