/** Recording a walk through a terminal application: the live screen, what is pointed at, and the moves. */
import { useState } from "react";
import { useAddress } from "../../address";
import { ask, type BackendEnd, type Overview } from "../../api";
import { useAct } from "../../act";
import { useLens } from "../../lens";
import { useLoad } from "../../load";
import { Problems } from "../../parts/controls";
import { FinishPanel } from "./finish";
import { HostView } from "./host";
import { hostKey, keyboardOf } from "./keyboard";
import { useLine } from "./line";
import { MarkLayer, type Selected } from "./marks";
import { Meaning } from "./meaning";
import { ScreensMet } from "./met";
import { MoveList, type Replayed } from "./moves";
import {
  empty,
  listFrom,
  named,
  placeFrom,
  proposed,
  renamed,
  samePlace,
  textIn,
  withChangedMove,
  withFault,
  withMove,
  withoutMove,
  type Recording,
} from "./recorder";
import { Opening } from "./opening";
import { RecordHead } from "./record-head";
import { LearnPanel, pathOf, type StrangeHost } from "./strange";
import { erase, fieldsOf, fresh, overlaid, step, tab, type, type Typed } from "./typing";
import {
  positionOf,
  spot,
  type Area,
  type Guess,
  type HostScreen,
  type Kind,
  type List,
  type Place,
  type RegionGuess,
} from "./types";
import { mayAtLeast, useSession } from "../../session";
import { rich, t } from "../../text";

export default function RecordPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const ends = useLoad<BackendEnd[]>("/backends");
  const overview = useLoad<Overview>("/overview");
  const roles = useLoad<{ role: string }[]>("/roles");
  const hosts = (ends.data ?? []).filter((one) => one.bound && one.family === "terminal host");
  const place =
    hosts.find((one) => `${one.environment} ${one.backend}` === search.get("place")) ??
    hosts.find((one) => one.environment === view) ??
    hosts.find((one) => !one.protected) ??
    hosts[0];
  const [typed, setTyped] = useState<Typed>({ cursor: 0, texts: {} });
  const [pointed, setSelected] = useState<Selected>();
  const line = useLine((screen) => {
    setTyped(fresh(screen));
    setSelected(undefined);
  });
  const [recording, setRecording] = useState<Recording>(empty);
  const [paused, setPaused] = useState(false);
  const [shown, setShown] = useState<number>();
  const [hidden, setHidden] = useState(false);
  const [finishing, setFinishing] = useState(false);
  const [replayed, setReplayed] = useState<Replayed[]>([]);
  const [replaying, setReplaying] = useState(false);
  const [strange, setStrange] = useState<StrangeHost>();
  const [learning, setLearning] = useState(false);
  const [told, setTold] = useState("");
  const act = useAct();

  const gone =
    (pointed?.kind === "place" && !recording.places.includes(pointed.place)) ||
    (pointed?.kind === "list" && !recording.lists.includes(pointed.list));
  const selected = gone ? undefined : pointed;
  const shot = shown === undefined ? undefined : recording.shots[shown];
  const live = line.seen?.screen;
  const screen: HostScreen | undefined = shot ? overlaid(shot.before, shot.typed) : live && overlaid(live, typed.texts);
  const raw = shot ? shot.known : line.seen ? line.seen.known || line.seen.proposed : "";
  const screenName = named(recording, raw);
  const places = recording.places.filter((one) => one.screen === screenName),
    lists = recording.lists.filter((one) => one.screen === screenName);
  const keyboard = keyboardOf(line.opened?.keys ?? []);

  const send = async (key: string) => {
    if (!live || line.waiting || replaying) return;
    setShown(undefined);
    const moved = await line.press(key, fieldsOf(typed), typed.cursor);
    if (moved && !paused) setRecording((old) => withMove(old, moved));
  };

  const mark = (kind: Kind | "list", area: Area) =>
    void act.run(async () => {
      if (!screen) return;
      const where = {
        screen: { ...screen, fields: screen.fields },
        row: area.row,
        column: area.column,
        engine: line.opened?.engine ?? "",
      };
      if (kind === "list") {
        const found = await ask<RegionGuess>("POST", "/screens-guess", {
          ...where,
          last_row: area.lastRow,
          last_column: area.lastColumn,
        });
        const list = listFrom(recording, screenName, area, found);
        setRecording((old) => ({
          ...old,
          lists: [...old.lists.filter((one) => !(one.screen === screenName && one.first_row === area.row)), list],
        }));
        setSelected({ kind: "list", list });
        return;
      }
      const length = area.lastColumn - area.column + 1;
      const found = await ask<Guess>("POST", "/screens-guess", { ...where, length });
      const made = placeFrom(recording, screenName, kind, area.row, area.column, length, found);
      setRecording((old) => ({ ...old, places: [...old.places.filter((one) => !samePlace(one, made)), made] }));
      setSelected({ kind: "place", place: made });
    });

  const pick = (area: Area, dragged: boolean) => {
    if (!screen) return;
    if (dragged) {
      setSelected({ kind: "area", area, isInput: false });
      return;
    }
    if (!shot) setTyped((old) => ({ ...old, cursor: positionOf(screen, area.row, area.column) }));
    const inside = places.find(
      (one) => one.row === area.row && one.column <= area.column && area.column < one.column + (one.length ?? 1),
    );
    const list = lists.find((one) => one.first_row <= area.row && area.row <= one.last_row);
    const found = proposed(screen, area.row, area.column);
    setSelected(
      inside ? { kind: "place", place: inside } : list ? { kind: "list", list } : found && { kind: "area", ...found },
    );
  };

  const onKey = (event: React.KeyboardEvent) => {
    if (!live || shot) return;
    const stop = () => {
      event.preventDefault();
      event.stopPropagation();
    };
    if (event.altKey && !event.ctrlKey) {
      const letter = event.code.replace("Key", "");
      if (letter === "M") {
        stop();
        setHidden((old) => !old);
        return;
      }
      const at = spot(live, typed.cursor);
      const area = selected?.kind === "area" ? selected.area : proposed(screen as HostScreen, at.row, at.column)?.area;
      if (area && (letter === "I" || letter === "O" || letter === "L")) {
        stop();
        mark(letter === "I" ? "input" : letter === "O" ? "output" : "list", area);
        return;
      }
    }
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Escape" && event.shiftKey) {
      stop();
      (event.currentTarget as HTMLElement).blur();
      return;
    }
    const arrows: Record<string, number> = {
      ArrowLeft: -1,
      ArrowRight: 1,
      ArrowUp: -live.columns,
      ArrowDown: live.columns,
    };
    const key = hostKey(keyboard, event);
    if (key) {
      stop();
      void send(key);
    } else if (event.key in arrows) {
      stop();
      setTyped((old) => step(live, old, arrows[event.key] ?? 0));
    } else if (event.key === "Tab") {
      stop();
      setTyped((old) => tab(live, old, event.shiftKey));
    } else if (event.key === "Backspace" || event.key === "Delete") {
      stop();
      setTyped((old) => erase(live, old, event.key === "Backspace"));
    } else if (event.key.length === 1) {
      stop();
      setTyped((old) => type(live, old, event.key) ?? old);
    }
  };

  const replay = async () => {
    if (!live || replaying) return;
    setReplaying(true);
    setReplayed([]);
    for (const [index, one] of recording.shots.entries()) {
      setShown(index);
      const texts = Object.fromEntries(
        Object.entries(one.typed).filter((pair): pair is [string, string] => pair[1] !== null),
      );
      const moved = await line.press(one.key, texts, one.before.cursor);
      if (!moved) break;
      const same = moved.came === one.came;
      setReplayed((old) => [...old, { state: same ? "ok" : "other", came: moved.came }]);
      if (!same) break;
    }
    setReplaying(false);
    setShown(undefined);
  };

  const changePlace = (old: Place, next: Place) => {
    setRecording((one) => ({ ...one, places: one.places.map((two) => (two === old ? next : two)) }));
    setSelected({ kind: "place", place: next });
  };
  const changeList = (old: List, next: List) => {
    setRecording((one) => ({ ...one, lists: one.lists.map((two) => (two === old ? next : two)) }));
    setSelected({ kind: "list", list: next });
  };
  const remove = (one: NonNullable<Selected>) =>
    setRecording((old) => ({
      ...old,
      places: one.kind === "place" ? old.places.filter((two) => two !== one.place) : old.places,
      lists: one.kind === "list" ? old.lists.filter((two) => two !== one.list) : old.lists,
    }));
  if (!may) return <p className="px-5 py-4 text-ink2">{t("Recording needs the role integrator.")}</p>;
  return (
    <div className="grid min-h-0 grow grid-rows-[auto_minmax(0,1fr)]">
      <RecordHead
        title={line.opened && strange ? t("A new host") : recording.name || t("New screen flow")}
        where={
          line.opened
            ? strange
              ? t("{0}, {1}: sign on, and stop where work begins", strange.address, strange.engine)
              : t(
                  "Screens of {0} in {1}, {2}, device {3}",
                  line.opened.backend,
                  place?.environment ?? "",
                  line.opened.engine,
                  line.opened.device || t("by the host"),
                )
            : t("Walk through the task once and point at what goes in and out")
        }
        open={line.state === "open"}
        strange={Boolean(strange)}
        paused={paused}
        moves={recording.shots.length}
        replaying={replaying}
        onLeave={line.leave}
        onConnect={() => setLearning(true)}
        onPause={() => setPaused(!paused)}
        onReplay={() => void replay()}
        onFinish={() => setFinishing(true)}
      />
      {!line.opened ? (
        <Opening
          hosts={hosts}
          place={place}
          opening={line.state === "opening"}
          problems={line.problems}
          onPlace={(next) => setSearch({ place: next })}
          told={told}
          onOpen={() => {
            if (!place) return;
            setRecording(empty);
            setStrange(undefined);
            line.open(`terminals/${encodeURIComponent(place.environment)}/${encodeURIComponent(place.backend)}`);
          }}
          onStrange={(host) => {
            setRecording(empty);
            setStrange(host);
            line.open(pathOf(host));
          }}
        />
      ) : (
        screen && (
          <div className="grid min-h-0 grid-cols-[196px_minmax(0,1fr)_250px]">
            <ScreensMet
              recording={recording}
              raw={raw}
              opened={line.opened}
              places={places}
              lists={lists}
              faults={recording.faults.filter((one) => one.screen === screenName)}
              onFault={(old, next) =>
                setRecording((all) => ({
                  ...all,
                  faults: next
                    ? all.faults.map((one) => (one === old ? next : one))
                    : all.faults.filter((one) => one !== old),
                }))
              }
              selected={selected}
              onSelect={setSelected}
              onRename={(raw, name) => setRecording((old) => renamed(old, raw, name))}
            />
            <section
              aria-label={t("Host screen")}
              className="flex min-h-0 min-w-0 flex-col gap-2 overflow-auto px-3 py-2"
            >
              <HostView
                screen={screen}
                cursor={shot ? shot.before.cursor : typed.cursor}
                name={t("Screen {0}", screenName)}
                onPick={pick}
                onKey={onKey}
                marks={
                  hidden ? undefined : <MarkLayer screen={screen} places={places} lists={lists} selected={selected} />
                }
                status={
                  <>
                    <b className="font-semibold text-(--term-hi)">
                      {shot
                        ? t("As it was before the move")
                        : line.waiting
                          ? t("Waiting")
                          : live?.refused
                            ? t("Input error")
                            : live?.locked
                              ? t("Locked")
                              : line.state === "open"
                                ? t("Ready")
                                : t("Closed")}
                    </b>
                    <span>{screenName}</span>
                    <span>
                      {rich(
                        "cursor {0}, {1}",
                        spot(screen, shot ? shot.before.cursor : typed.cursor).row,
                        spot(screen, shot ? shot.before.cursor : typed.cursor).column,
                      )}
                    </span>
                    <span>
                      {screen.rows} x {screen.columns}
                    </span>
                  </>
                }
              />
              <div className="flex flex-wrap items-center gap-1">
                {keyboard.bar.map((key) => (
                  <button
                    key={key}
                    type="button"
                    className="btn h-6! px-1.5! text-xs!"
                    aria-disabled={line.waiting || Boolean(shot)}
                    onClick={() => void send(key)}
                  >
                    {key}
                  </button>
                ))}
                {live?.refused && (
                  <button type="button" className="btn h-6! px-1.5! text-xs!" onClick={line.reset}>
                    {t("Reset")}
                  </button>
                )}
              </div>
              {line.problems.length > 0 && <Problems problems={line.problems} />}
              {act.problems.length > 0 && <Problems problems={act.problems} />}
              {!strange && (
                <Meaning
                  selected={selected}
                  screen={screen}
                  keys={line.opened.keys}
                  onMark={mark}
                  onFault={(area) =>
                    setRecording((old) =>
                      withFault(
                        old,
                        screenName,
                        area,
                        textIn(screen, area.row, area.column, area.lastColumn - area.column + 1),
                      ),
                    )
                  }
                  onPlace={changePlace}
                  onList={changeList}
                  onRemove={remove}
                />
              )}
            </section>
            <aside aria-label={t("Recorded moves")} className="min-h-0 overflow-auto border-l border-line">
              <h2 className="px-4 pt-3 pb-1 font-semibold">{t("Recorded moves")}</h2>
              <MoveList
                recording={recording}
                start={line.opened.start}
                keys={line.opened.keys}
                onChange={(index, change) => setRecording((old) => withChangedMove(old, index, change))}
                shown={shown}
                replayed={replayed}
                onShow={setShown}
                onRemove={(index) => {
                  setShown(undefined);
                  setRecording((old) => withoutMove(old, index));
                }}
              />
              {replaying && live && (
                <div className="px-4 pb-3">
                  <p className="lbl">{t("The host now")}</p>
                  <HostView screen={live} name="The host now" small />
                </div>
              )}
            </aside>
          </div>
        )
      )}
      {learning && strange && (
        <LearnPanel
          address={strange.address}
          problems={line.problems}
          busy={line.waiting}
          onClose={() => setLearning(false)}
          onLearn={(name, credential) =>
            void line.learn(name, credential).then((made) => {
              if (!made) return;
              setLearning(false);
              setStrange(undefined);
              setRecording(empty);
              line.leave();
              setTold(
                [
                  t("{0} is connected in {1}; work begins on {2}.", made.backend, made.environment, made.start),
                  ...made.notes,
                ].join(" "),
              );
              setSearch({ place: `${made.environment} ${made.backend}` });
              ends.reload();
            })
          }
        />
      )}
      {finishing && place && (
        <FinishPanel
          recording={recording}
          backend={place.backend}
          environment={place.environment}
          isProtected={place.protected}
          services={(overview.data?.services ?? []).map((one) => one.name)}
          roles={(roles.data ?? []).map((one) => one.role)}
          onChange={setRecording}
          onClose={() => setFinishing(false)}
        />
      )}
    </div>
  );
}
