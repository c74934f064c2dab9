package tarnholt.api;

/** What a content archive's entry class implements. It needs a constructor without parameters. */
public interface Content {
    /** Called once, after everything that this content needs has been started. */
    void begin(Marsh marsh) throws Exception;
}
