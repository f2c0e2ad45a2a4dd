const named = document.querySelector<HTMLMetaElement>("meta[name=kind-echo-base]")?.content ?? "/";

/** Where the page stands, without a slash at its end: a proxy may have put it under a path. */
export const BASE = named.replace(/\/+$/, "");
