package quayside;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Quays to tie boats to. */
public final class Quayside implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("quayside", 6);
        marsh.tell("quayside", "planks laid");
    }
}
