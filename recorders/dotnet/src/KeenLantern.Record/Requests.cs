namespace KeenLantern.Record;

/// <summary>The entry point of the application that asks for a service in a request.</summary>
/// <param name="Entry">Its name.</param>
/// <param name="How">How it is given the service.</param>
/// <param name="Site">The parameter.</param>
internal sealed record Asker(string Entry, How How, string? Site);

/// <summary>A request that runs.</summary>
internal interface IRequest
{
    /// <summary>Its name, known once its route is.</summary>
    LateName Name { get; }

    /// <summary>Its scope's id; 0 until it has one.</summary>
    long Scope { get; set; }

    /// <summary>Returns the asker of a service in it; null where that is not known.</summary>
    Asker? AskerOf(Type service);
}

/// <summary>The requests of an application. It is disposed with the recording.</summary>
internal interface IRequests : IDisposable
{
    /// <summary>Returns the request that runs here, for the first scope that is begun in it; null for others.</summary>
    IRequest? Next();

    /// <summary>The request that runs here; null: none.</summary>
    IRequest? Current { get; }
}
