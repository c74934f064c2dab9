using System;
using System.Collections.Generic;
using System.IO;

/// Why the host cannot go on: an exit code and a sentence.
public class Dark : Exception
{
    public readonly int Code;
    public Dark(int code, string why) : base(why) { Code = code; }
}

/// gloamwick.json: read, filled in where something is missing, and written back then.
public class Rules
{
    readonly Dictionary<string, object> root;

    public Rules(string file)
    {
        var shipped = (Dictionary<string, object>)Json.Read(@"{
            ""sign"": {""title"": ""A dim cavern"", ""note"": """", ""listed"": false},
            ""door"": {""word"": """", ""seats"": 6, ""guestsOnly"": false, ""keepers"": [], ""guests"": []},
            ""cavern"": {""name"": ""undermill"", ""seed"": 0, ""depth"": 3, ""dusk"": ""mild"", ""hurt"": false},
            ""wire"": {""port"": 26170, ""bind"": ""0.0.0.0""}}");
        root = shipped;
        bool lacking = true;
        if (File.Exists(file))
        {
            try { root = (Dictionary<string, object>)Json.Read(File.ReadAllText(file)); }
            catch (Exception broken) { throw new Dark(52, "gloamwick.json: " + broken.Message); }
            lacking = FillIn(root, shipped);
        }
        if (lacking) File.WriteAllText(file, Json.Write(root, "") + "\n");
    }

    static bool FillIn(Dictionary<string, object> mine, Dictionary<string, object> shipped)
    {
        bool changed = false;
        foreach (var one in shipped)
        {
            object there;
            if (!mine.TryGetValue(one.Key, out there)) { mine[one.Key] = one.Value; changed = true; }
            else if (one.Value is Dictionary<string, object> && there is Dictionary<string, object>)
                changed |= FillIn((Dictionary<string, object>)there, (Dictionary<string, object>)one.Value);
        }
        return changed;
    }

    object Get(string part, string name)
    {
        var table = root[part] as Dictionary<string, object>;
        if (table == null) throw new Dark(52, "gloamwick.json: " + part + " is no object");
        return table[name];
    }

    T Get<T>(string part, string name, string what)
    {
        object value = Get(part, name);
        if (!(value is T)) throw new Dark(52, "gloamwick.json: " + part + "." + name + " is to be " + what);
        return (T)value;
    }

    public string Text(string part, string name) { return Get<string>(part, name, "a text"); }
    public bool Flag(string part, string name) { return Get<bool>(part, name, "true or false"); }

    public int Number(string part, string name, int least, int most)
    {
        long value = Get<long>(part, name, "a number");
        if (value < least || value > most)
            throw new Dark(52, "gloamwick.json: " + part + "." + name + " is " + value + ", " + least + " to " + most + " is light enough");
        return (int)value;
    }

    public List<string> Names(string part, string name)
    {
        return Get<List<object>>(part, name, "a list").ConvertAll(one => Convert.ToString(one));
    }
}
