import type { ButtonHTMLAttributes, ReactNode } from "react";
import type { Role } from "../api/me";
import { useCan } from "../api/me";
import { Menu } from "./Menu";

type Look = "plain" | "main";
const LOOKS: Record<Look, string> = {
  plain: "border border-line bg-sheet text-text hover:border-quiet",
  main: "bg-text text-ground hover:opacity-90 border border-transparent",
};

interface ButtonProps extends ButtonHTMLAttributes<HTMLButtonElement> {
  look?: Look;
  hint?: string;
  small?: boolean;
  /** The role that what it does needs; it is not there for anybody else. */
  needs?: Role;
}

/** The classes of a button, for what is one and is no `Button`. */
export const buttonLook = ({ look = "plain", small = false }: Pick<ButtonProps, "look" | "small">) =>
  `inline-flex items-center rounded-md font-medium whitespace-nowrap disabled:opacity-45 ${small ? "h-7 px-2.5 text-xs" : "h-9 px-3"} ${LOOKS[look]}`;

export function Button({
  look = "plain",
  hint,
  small = false,
  needs = "look",
  children,
  className = "",
  ...rest
}: ButtonProps) {
  const can = useCan(needs);
  // Before anybody is signed in there are buttons too, which need no role.
  if (needs !== "look" && !can) return null;
  return (
    <button type="button" className={`${buttonLook({ look, small })} ${className}`} {...rest}>
      {children}
      {hint && (
        <span
          aria-hidden="true"
          className={`ml-1.5 text-xs ${look === "main" ? "opacity-75" : "text-quiet"}`}
        >
          {hint}
        </span>
      )}
    </button>
  );
}

export interface Choice<Value extends string = string> {
  value: Value;
  label: string;
  detail?: string;
}

/** A word of the sentence that is a control: it says what is chosen, and opens what else there is. */
export function Word<Value extends string>({
  name,
  value,
  choices,
  onChoose,
  onClosed,
}: {
  name: string;
  value: Value;
  choices: readonly Choice<Value>[];
  onChoose: (value: Value) => void;
  /** After the choices are away; its event prevented, the focus does not go back to the word. */
  onClosed?: (event: Event) => void;
}) {
  const chosen = choices.find((choice) => choice.value === value);
  return (
    <Menu
      name={`${name}: ${chosen?.label ?? value}. Change`}
      className="border-b-2 border-line font-semibold hover:border-quiet data-[state=open]:border-text"
      items={choices.map((choice) => ({
        kind: "choice",
        label: choice.label,
        detail: choice.detail,
        chosen: choice.value === value,
        onSelect: () => onChoose(choice.value),
      }))}
      onClosed={onClosed}
    >
      {chosen?.label ?? value}
    </Menu>
  );
}

/** A word that keeps what is shown to one of some names, or to every one of them. */
export function EveryWord({
  name,
  value,
  every,
  names,
  onChoose,
}: {
  name: string;
  value: string;
  every: string;
  names: string[];
  onChoose: (value: string) => void;
}) {
  const sorted = [...new Set(names)].sort();
  const choices = [{ value: "", label: every }, ...sorted.map((one) => ({ value: one, label: one }))];
  return <Word name={name} value={value} choices={choices} onChoose={onChoose} />;
}

const AUDIO = ".wav,.flac,.aif,.aiff,.aifc,.rf64,.w64,.caf,.mp3,.ogg,.oga,.opus,audio/*";

/** A button that lets a person choose files, audio unless `accept` says else; the same file may be chosen again. */
export function FileButton({
  children,
  className = "",
  multiple = false,
  also = "",
  accept = `${also}${AUDIO}`,
  onFiles,
}: {
  children: ReactNode;
  className?: string;
  multiple?: boolean;
  also?: string;
  accept?: string;
  onFiles: (files: File[]) => void;
}) {
  return (
    <label
      className={`inline-flex h-9 cursor-pointer items-center rounded-md border border-line bg-sheet px-3 font-medium focus-within:outline-2 focus-within:outline-offset-2 hover:border-quiet ${className}`}
    >
      {children}
      <input
        type="file"
        multiple={multiple}
        className="sr-only"
        accept={accept}
        onChange={(event) => {
          const chosen = [...(event.target.files ?? [])];
          if (chosen.length > 0) onFiles(chosen);
          event.target.value = "";
        }}
      />
    </label>
  );
}

/** The sentence that says what is being looked at. */
export function Sentence({ children }: { children: ReactNode }) {
  return <h1 className="text-xl leading-9 font-light text-balance">{children}</h1>;
}
