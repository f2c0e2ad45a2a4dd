import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Plan } from "../../api/client";
import { effectsQuery } from "../effects/queries";
import { hostsQuery } from "../hosts/queries";

/** What a new installation needs before its first run, in order, each with the page where it is done. */
export function FirstSteps({ plans }: { plans: Plan[] }) {
  const hosts = useQuery(hostsQuery).data;
  const effects = useQuery(effectsQuery).data;
  if (!hosts || !effects) return null;
  const rendering = hosts.machines.length > 0 || hosts.hosts.some((host) => host.by_hand);
  const steps: { done: boolean; title: string; text: ReactNode }[] = [
    {
      done: rendering,
      title: "Connect what renders",
      text: (
        <>
          Run <code>kind-echo worker</code> on a machine with your hosts and plug-ins, or add a host that
          people render in by hand, on <To page="/hosts">Hosts</To>.
        </>
      ),
    },
    {
      done: effects.effects.length > 0,
      title: "Choose an effect to test",
      text: (
        <>
          On <To page="/hosts">Hosts</To>, each machine lists the effects that it has: press <i>Test it</i>.
        </>
      ),
    },
    {
      done: plans.length > 0,
      title: "Write a plan",
      text: (
        <>
          On <To page="/plans">Plans</To>, begin with a template: signals and settings are the rows, hosts and
          rates the columns.
        </>
      ),
    },
    {
      done: plans.some((plan) => plan.builds.length > 0),
      title: "Register a build",
      text: (
        <>
          Builds that a machine has are known already; a build server adds new ones with{" "}
          <code>kind-echo submit</code> and a token.
        </>
      ),
    },
    {
      done: false,
      title: "Run it, and approve what is right",
      text: "Start the run above. What you approve becomes the reference that later builds are compared with.",
    },
  ];
  const next = steps.findIndex((step) => !step.done);
  return (
    <section className="max-w-2xl px-5 pb-6">
      <h2 className="text-lg font-semibold">First steps</h2>
      <ol className="mt-3 space-y-3">
        {steps.map((step, i) => (
          <li key={step.title} className="grid grid-cols-[1.5rem_minmax(0,1fr)]">
            <span aria-hidden className={step.done ? "text-quiet" : "font-semibold"}>
              {step.done ? "✓" : i + 1}
            </span>
            <div>
              <p className={i === next ? "font-semibold" : step.done ? "text-quiet" : ""}>
                {step.title}
                {step.done && <span className="sr-only">, done</span>}
              </p>
              {!step.done && <p className="text-quiet">{step.text}</p>}
            </div>
          </li>
        ))}
      </ol>
      <p className="mt-5 text-quiet">
        Files of your own can be measured and compared without any of this, on <To page="/files">Files</To>.
      </p>
    </section>
  );
}

function To({ page, children }: { page: string; children: ReactNode }) {
  return (
    <Link to={page} className="text-text underline decoration-line hover:decoration-text">
      {children}
    </Link>
  );
}
