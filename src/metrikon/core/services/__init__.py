"""Services that describe themselves (OpenAPI 3.0 and 3.1): what they can be asked for, and what a person has noted of them."""
