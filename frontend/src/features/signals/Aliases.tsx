import type { SignalPreview } from "../../api/client";
import { kilohertz, number } from "../../ui/numbers";

/** Where the harmonics of a tone fold to, rate by rate, so that a line in a spectrum can be named. */
export function Aliases({ preview }: { preview: SignalPreview }) {
  const rates = preview.aliases.filter((one) => one.aliases.length > 0);
  if (rates.length === 0) return null;
  const most = Math.max(...rates.map((one) => one.aliases.length));
  return (
    <section className="mt-5 border-t border-line pt-3">
      <h2 className="font-semibold">Where its harmonics fold to</h2>
      <p className="text-quiet">
        {preview.played !== null && `The tone is played at ${number(preview.played, 3)} Hz. `}
        The first harmonics above half of each rate, and the frequency at which each comes back, in Hz.
      </p>
      <div className="overflow-x-auto">
        <table className="mt-2">
          <thead className="text-left text-xs text-quiet">
            <tr>
              <th scope="col" className="py-1 pr-6 font-normal">
                Rate
              </th>
              {Array.from({ length: most }, (_, index) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: the columns have no other name
                <th key={index} scope="col" className="py-1 pr-5 text-right font-normal">
                  {index === 0 ? "first" : `+${index}`}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rates.map(({ rate, aliases }) => (
              <tr key={rate} className="border-t border-line">
                <th scope="row" className="py-1 pr-6 text-left font-medium whitespace-nowrap">
                  {kilohertz(rate)} kHz
                </th>
                {aliases.map((alias) => (
                  <td key={alias.order} className="py-1 pr-5 text-right whitespace-nowrap">
                    {number(alias.folded, alias.folded % 1 ? 1 : 0)}{" "}
                    <span className="text-xs text-quiet">h{alias.order}</span>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
