package peatfires;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Another take on burning peat, by other people. */
public final class Peatfires implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("peatfires", 2);
        marsh.tell("peatfires", "smoke only");
    }
}
