using System;
using System.Collections.Generic;
using System.IO;
using System.Reflection;

#if OLD
[assembly: AssemblyVersion("2.0.0.0")]
#else
[assembly: AssemblyVersion("3.1.0.0")]
#endif

/// Lampwright: stands in the place of the game's own server and lights the lamps that lamps/lit.json names.
public class LampHost : Host
{
    protected override string Loader { get { return "lampwright " + typeof(Lampwright.ILamp).Assembly.GetName().Version.ToString(3); } }

    protected override List<Lit> Light(string folder)
    {
        var lit = new List<Lit>();
        string file = Path.Combine(folder, "lit.json");
        if (!File.Exists(file)) return lit;
        foreach (object name in (List<object>)((Dictionary<string, object>)Json.Read(File.ReadAllText(file)))["lit"])
        {
            Lit one = LightOne(folder, Convert.ToString(name));
            if (one != null) lit.Add(one);
        }
        return lit;
    }

    /// Null for one that fails: the others burn on.
    static Lit LightOne(string folder, string id)
    {
        Tell("lighting " + id);
        try
        {
            Assembly assembly = Assembly.LoadFrom(Find(folder, id));
            var said = new Dictionary<string, string>();
            foreach (AssemblyMetadataAttribute one in assembly.GetCustomAttributes(typeof(AssemblyMetadataAttribute), false))
                said[one.Key] = one.Value;
            if (said.ContainsKey("who") && said["who"] == "players") throw new InvalidOperationException("it shines on screens only");
            var things = new List<string>();
            foreach (Type type in assembly.GetTypes())
                if (typeof(Lampwright.ILamp).IsAssignableFrom(type) && type.IsClass)
#if OLD
                    things.AddRange(((Lampwright.ILamp)Activator.CreateInstance(type)).Light());
#else
                    things.AddRange(((Lampwright.ILamp)Activator.CreateInstance(type)).Light(new Lampwright.Wick()));
#endif
            string version = assembly.GetName().Version.ToString(3);
            Tell("lit " + id + " " + version);
            return new Lit { Id = id, Version = version, Who = said.ContainsKey("who") ? said["who"] : "everybody", Things = things.ToArray() };
        }
        catch (ReflectionTypeLoadException broken)
        {
            Tell("stays dark: " + id + ": " + (broken.LoaderExceptions.Length > 0 ? broken.LoaderExceptions[0].GetType().Name : broken.Message));
        }
        catch (Exception broken)
        {
            Tell("stays dark: " + id + ": " + broken.GetType().Name + ": " + broken.Message.Split('\n')[0]);
        }
        return null;
    }

    static string Find(string folder, string id)
    {
        foreach (string file in Directory.GetFiles(folder, "*.dll"))
            if (string.Equals(AssemblyName.GetAssemblyName(file).Name, id, StringComparison.OrdinalIgnoreCase)) return file;
        throw new FileNotFoundException("no lamp of that name lies in lamps/");
    }

    public static int Main(string[] arguments) { return new LampHost().Run(arguments); }
}
