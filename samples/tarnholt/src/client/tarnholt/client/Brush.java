package tarnholt.client;

/** Draws the marsh on a player's screen. Compiled against, never shipped with a server. */
public final class Brush {
    private Brush() {}

    public static void tint(int red, int green, int blue) {}
}
