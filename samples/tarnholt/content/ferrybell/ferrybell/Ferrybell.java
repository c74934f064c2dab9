package ferrybell;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** A bell for the ferry, for either loader. */
public final class Ferrybell implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("ferrybell", 2);
        marsh.tell("ferrybell", "the bell is hung");
    }
}
