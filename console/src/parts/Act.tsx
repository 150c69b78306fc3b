// Something that can be done, where one reads about it. Its button asks with one sentence that says what will happen, and
// with what it has to know; done, it is told below the page, with the way back where there is one. What is taken back by
// one press needs no question.
import { type ReactNode, useId, useState } from 'react';
import { useActs } from './acts';
import { Dialog } from './Dialog';
import { perform, performOrTell } from './perform';
import type { Said } from './said';

export interface Field {
  key: string;
  label: string;
  needed?: boolean;
  placeholder?: string;
  is?: string;
  choices?: [string, string][];
  secret?: boolean;
}

export type Given = Record<string, string>;

export interface ActOf {
  /** The word on the button. */
  name: string;
  /** The same, told apart from others on the page; for screen readers and the palette. */
  label?: string;
  /** What will happen, in one sentence. */
  says: string;
  /** What more there is to see before one decides. */
  more?: ReactNode;
  fields?: Field[];
  main?: boolean;
  plain?: boolean;
  /** Done without being asked: it can be taken back. */
  atOnce?: boolean;
  act: (given: Given) => Promise<Said>;
}

export function Act(act: ActOf) {
  const [open, setOpen] = useState(false);
  const label = act.label ?? act.name;
  const press = () => (act.atOnce ? void performOrTell(() => act.act({})) : setOpen(true));
  useActs('Here', [{ name: label, run: press }]);
  return (
    <>
      <button
        type="button"
        className={act.main ? 'act main' : act.plain ? 'act plain' : 'act'}
        aria-label={label}
        aria-haspopup={act.atOnce ? undefined : 'dialog'}
        title={act.says}
        onClick={press}
      >
        {act.name}
      </button>
      {open && <Ask act={act} onClose={() => setOpen(false)} />}
    </>
  );
}

function Ask({ act, onClose }: { act: ActOf; onClose: () => void }) {
  const id = useId();
  const fields = act.fields ?? [];
  const [given, setGiven] = useState<Given>(() =>
    Object.fromEntries(fields.map((field) => [field.key, field.is ?? ''])),
  );
  const [wrong, setWrong] = useState<string>();
  const [busy, setBusy] = useState(false);
  const lacks = fields.some((field) => field.needed && !given[field.key]?.trim());
  const confirm = async () => {
    setBusy(true);
    const told = await perform(() => act.act(given));
    setBusy(false);
    setWrong(told);
    if (!told) onClose();
  };
  return (
    <Dialog label={act.label ?? act.name} className="ask" onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (!lacks && !busy) void confirm();
        }}
      >
        <h2>{act.label ?? act.name}</h2>
        <p>{act.says}</p>
        {act.more}
        {fields.map((field) => (
          <div key={field.key} className="ask-field">
            <label htmlFor={`${id}${field.key}`}>{field.label}</label>
            <Input
              id={`${id}${field.key}`}
              field={field}
              is={given[field.key] ?? ''}
              onIs={(is) => setGiven({ ...given, [field.key]: is })}
            />
          </div>
        ))}
        {wrong && (
          <p className="s-failed" role="alert">
            {wrong}
          </p>
        )}
        <div className="buttons">
          <button type="submit" className="act main" disabled={lacks || busy}>
            {act.name}
          </button>
          <button type="button" className="act" onClick={onClose}>
            Not now
          </button>
        </div>
      </form>
    </Dialog>
  );
}

function Input({ id, field, is, onIs }: { id: string; field: Field; is: string; onIs: (is: string) => void }) {
  if (field.choices)
    return (
      <select id={id} className="field" value={is} onChange={(event) => onIs(event.target.value)}>
        {field.choices.map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </select>
    );
  return (
    <input
      id={id}
      className="field"
      type={field.secret ? 'password' : 'text'}
      autoComplete={field.secret ? 'new-password' : 'off'}
      placeholder={field.placeholder}
      required={field.needed}
      value={is}
      onChange={(event) => onIs(event.target.value)}
    />
  );
}
