"""The five stages' panels."""
