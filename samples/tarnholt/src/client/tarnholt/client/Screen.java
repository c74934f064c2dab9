package tarnholt.client;

/** A window of the game's client. Compiled against, never shipped with a server. */
public class Screen {
    public void open() {}
}
