package tarnholt.client;

/** A frame that came too late. Compiled against, never shipped with a server. */
public class LostFrame extends Exception {}
