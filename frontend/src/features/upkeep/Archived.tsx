import { useState } from "react";
import { Check } from "../../ui/Checkbox";

interface Archivable {
  archived: boolean;
}

/** What of a list is shown: all that is not archived, and the rest where that is asked for. */
export function useShown<T extends Archivable>(all: T[]) {
  const [withArchived, setWithArchived] = useState(false);
  const archived = all.filter((one) => one.archived).length;
  return {
    shown: withArchived ? all : all.filter((one) => !one.archived),
    box:
      archived > 0 ? (
        <Check label={`Show ${archived} archived`} checked={withArchived} onChange={setWithArchived} />
      ) : null,
  };
}

/** Beside the name of what is archived. */
export const ArchivedMark = () => <span className="pl-2 text-xs font-normal text-quiet">archived</span>;
