using System.Reflection;
using System.Runtime.Versioning;

[assembly: AssemblyVersion("2.1.0.0")]
[assembly: TargetFramework(".NETFramework,Version=v4.7.2")]

/// A side-scroller's plugin that lights lanterns; built against the loader below.
public class Lantern {
    public string Light() { return Wickhost.Api.Say("lit"); }
}
