"""Sound as a stream of blocks: open, decode, mix, resample, quantise, measure."""
