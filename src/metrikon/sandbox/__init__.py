"""The sandbox: outside services, simulated. Shares no code with extraction or the pattern reader."""
