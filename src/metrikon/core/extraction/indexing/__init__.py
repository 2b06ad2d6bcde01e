"""What a document holds, found once and asked by every stage: its words by text, number and date, what is said in it, its units."""
