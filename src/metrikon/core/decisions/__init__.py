"""Decision tables as the OMG's DMN standard has them (1.5, chapter 8): their form, their checks, what they decide, and their XML."""
