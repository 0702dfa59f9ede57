"""The Bench: docket, chain, Stage, margins, course, for a plan of any method."""
