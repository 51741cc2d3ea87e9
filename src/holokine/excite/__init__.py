"""What happens to the base: response spectra and pulses."""
