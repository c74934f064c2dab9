package drainworks;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Drains the marsh; cannot live beside the sluice gates. */
public final class Drainworks implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("drainworks", 4);
        marsh.tell("drainworks", "pumping");
    }
}
