"""The made-up film The Lantern Tide: a boathouse built, lit and photographed by code, and the show
made of it."""
