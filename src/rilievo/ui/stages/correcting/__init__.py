"""The parts of the stage Correct."""
