package peatfires;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Peat that burns for days. */
public final class PeatFires implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("peat-fires", 6);
        marsh.tell("peat-fires", "peat is dry");
    }
}
