"""Charts and tables for paper: SVG and PDF, drawn by matplotlib, which is loaded only then."""
