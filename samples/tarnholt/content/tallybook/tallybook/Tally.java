package tallybook;

/** Who owes how many reeds. */
public final class Tally {
    private long owed;

    public void note(long reeds) {
        owed = Math.addExact(owed, reeds);
    }

    public long owed() {
        return owed;
    }
}
