using System.Diagnostics;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;

namespace KeenLantern.Record.AspNetCore;

/// <summary>Names requests by their routes, by the framework's diagnostic events.</summary>
internal sealed class Requests : IRequests, IObserver<DiagnosticListener>, IObserver<KeyValuePair<string, object?>>, IDisposable
{
    // Not the events of the request's activity: to listen to them makes the host start one, which outgoing requests then carry on.
    private const string Begun = "Microsoft.AspNetCore.Hosting.BeginRequest";
    private const string Ended = "Microsoft.AspNetCore.Hosting.EndRequest";
    private const string Failed = "Microsoft.AspNetCore.Hosting.UnhandledException";
    private const string Matched = "Microsoft.AspNetCore.Routing.EndpointMatched";

    private readonly Recorder recorder;
    private readonly AsyncLocal<Running?> running = new();
    private readonly List<IDisposable> subscriptions = [];

    private sealed class Running : IRequest
    {
        public LateName Name { get; } = new();

        public long Scope { get; set; }

        internal int HasScope;

        internal volatile Askers? Askers;

        public Asker? AskerOf(Type service) => Askers?.AskerOf(service);
    }

    internal Requests(Recorder recorder)
    {
        this.recorder = recorder;
        Keep(DiagnosticListener.AllListeners.Subscribe(this));
    }


    /// <inheritdoc/>
    public IRequest? Next() =>
        running.Value is { } request && Interlocked.Exchange(ref request.HasScope, 1) == 0 ? request : null;

    /// <inheritdoc/>
    public IRequest? Current => running.Value;

    public void OnNext(DiagnosticListener value)
    {
        if (value.Name == "Microsoft.AspNetCore")
        {
            Keep(value.Subscribe(this, name => recorder.IsOn && name is Begun or Ended or Failed or Matched));
        }
    }

    private void Keep(IDisposable subscription)
    {
        lock (subscriptions)
        {
            subscriptions.Add(subscription);
        }
    }

    /// <summary>Ends the subscriptions: a process may start several applications, one after the other.</summary>
    public void Dispose()
    {
        lock (subscriptions)
        {
            subscriptions.ForEach(subscription => subscription.Dispose());
            subscriptions.Clear();
        }
    }

    public void OnNext(KeyValuePair<string, object?> value)
    {
        switch (value.Key)
        {
            case Begun:
                running.Value = new Running();
                break;
            case Matched when value.Value is HttpContext context:
                if (running.Value is { } request)
                {
                    string name = NameOf(context);
                    request.Name.Settle(name);
                    request.Askers = context.GetEndpoint() is { } endpoint ? Askers.Of(endpoint, name) : null;
                }

                break;
            case Ended or Failed:
                running.Value?.Name.Settle("(no route)");
                running.Value = null;
                break;
        }
    }

    // The pattern, never what the client sent: its method may be any word.
    private static string NameOf(HttpContext context)
    {
        string method = HttpMethods.GetCanonicalizedValue(context.Request.Method);
        bool known = HttpMethods.IsGet(method) || HttpMethods.IsPost(method) || HttpMethods.IsPut(method) || HttpMethods.IsDelete(method) ||
            HttpMethods.IsPatch(method) || HttpMethods.IsHead(method) || HttpMethods.IsOptions(method);
        string route = context.GetEndpoint() is RouteEndpoint { RoutePattern.RawText: { } pattern } ? "/" + pattern.TrimStart('/') : "(no route)";
        return known ? method + " " + route : route;
    }

    public void OnCompleted()
    {
    }

    public void OnError(Exception error)
    {
    }
}
