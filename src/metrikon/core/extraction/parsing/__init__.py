"""From the texts of answers to one typed record: JSON as models write it, types and forms, parts of long documents joined."""
