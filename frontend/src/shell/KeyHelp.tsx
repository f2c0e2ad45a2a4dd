import { Asking } from "../ui/Asking";
import { Button } from "../ui/controls";
import { KEY_LIST } from "./keylist";

/** Every key there is. */
export function KeyHelp({ onClose }: { onClose: () => void }) {
  return (
    <Asking title="Keys" width="w-[44rem]" onClose={onClose}>
      <div className="grid grid-cols-2 gap-8">
        {KEY_LIST.map(({ screen, keys }) => (
          <section key={screen}>
            <h3 className="font-semibold">{screen}</h3>
            <dl className="mt-2 grid grid-cols-[7.5rem_1fr] gap-y-1.5">
              {keys.map(([key, act]) => (
                <div key={key} className="contents">
                  <dt className="font-medium">{key}</dt>
                  <dd className="text-quiet">{act}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
      <Button className="justify-self-start" onClick={onClose}>
        Close
      </Button>
    </Asking>
  );
}
