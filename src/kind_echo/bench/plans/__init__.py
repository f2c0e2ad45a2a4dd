"""Plans: their document, their templates, their revisions and the cells that they ask for."""
