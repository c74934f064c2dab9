package tollgate;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Asks for a small toll. */
public final class TollGate implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.tell("tollgate", "the gate asks for " + marsh.config("tollgate.properties", "toll", "2", "shells"));
    }
}
