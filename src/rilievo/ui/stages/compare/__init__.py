"""The stage Compare: what is compared, how it is shown and tested."""
