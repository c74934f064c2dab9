package lanternfish;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Fish that light the pools. */
public final class Lanternfish implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("lanternfish", 4);
        marsh.tell("lanternfish", "the pools glow");
    }
}
