using System.Collections.Concurrent;
using System.Reflection;
using System.Runtime.CompilerServices;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Mvc.Controllers;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Microsoft.AspNetCore.Mvc.RazorPages.Infrastructure;
using Microsoft.AspNetCore.SignalR;

namespace KeenLantern.Record.AspNetCore;

/// <summary>The entry points behind an endpoint, and what each of them is given: a controller, a page, a hub, a handler.</summary>
internal sealed class Askers
{
    private const int Most = 1024; // services that are kept of an endpoint

    private static readonly ConditionalWeakTable<Endpoint, Askers> Known = [];

    private readonly ConcurrentDictionary<Type, Asker> askers = new();
    private readonly Asker other;

    private Askers(Endpoint endpoint, string name)
    {
        other = new Asker(name, How.Locator, null);
        if (endpoint.Metadata.GetMetadata<MethodInfo>() is { } handler && endpoint.Metadata.GetMetadata<ControllerActionDescriptor>() is null)
        {
            Add(handler.GetParameters(), name, How.Method);
        }

        if (endpoint.Metadata.GetMetadata<ControllerActionDescriptor>() is { } action)
        {
            string controller = TypeNames.Of(action.ControllerTypeInfo);
            other = new Asker(controller, How.Locator, null);
            AddConstructors(action.ControllerTypeInfo, controller);
            Add(action.MethodInfo.GetParameters(), controller + "." + action.MethodInfo.Name, How.Method);
        }

        if (endpoint.Metadata.GetMetadata<CompiledPageActionDescriptor>() is { } page)
        {
            string model = TypeNames.Of(page.HandlerTypeInfo);
            other = new Asker(model, How.Locator, null);
            AddConstructors(page.HandlerTypeInfo, model);
            foreach (HandlerMethodDescriptor method in page.HandlerMethods)
            {
                Add(method.MethodInfo.GetParameters(), model + "." + method.MethodInfo.Name, How.Method);
            }
        }

        if (endpoint.Metadata.GetMetadata<HubMetadata>() is { } hub)
        {
            other = new Asker(TypeNames.Of(hub.HubType), How.Locator, null);
            AddConstructors(hub.HubType, other.Entry);
        }
    }

    /// <summary>Returns the entry points of an endpoint.</summary>
    /// <param name="endpoint">The endpoint.</param>
    /// <param name="name">The request's name.</param>
    internal static Askers Of(Endpoint endpoint, string name) => Known.GetValue(endpoint, at => new Askers(at, name));

    /// <summary>Returns the asker of a service: the entry point's parameter of that type, or else the entry point itself.</summary>
    internal Asker AskerOf(Type service) => askers.GetValueOrDefault(service, other);

    private void AddConstructors(Type type, string entry)
    {
        foreach (ConstructorInfo constructor in type.GetConstructors())
        {
            Add(constructor.GetParameters(), entry, How.Constructor);
        }
    }

    private void Add(ParameterInfo[] parameters, string entry, How how)
    {
        foreach (ParameterInfo parameter in parameters)
        {
            if (askers.Count < Most)
            {
                askers.TryAdd(parameter.ParameterType, new Asker(entry, how, parameter.Name));
            }
        }
    }
}
