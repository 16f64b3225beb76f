"""Scripts that let shells complete what is typed, and manual pages."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from zembrel.cli.command import command_of
from zembrel.cli.completing import ASKED
from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import UsageError, nearest_name
from zembrel.inputs.options import Output
from zembrel.results.receipt import Receipt, Result
from zembrel.verbtable import VERBS
from zembrel.version import program_version

SCRIPTS = {
    "bash": """# Completion of zembrel in bash: put this in ~/.local/share/bash-completion/completions/zembrel
_zembrel() {
    local IFS=$'\\n' found
    found=($(@=bash ZEMBREL_LINE="${COMP_LINE:0:COMP_POINT}" zembrel 2>/dev/null))
    if [[ ${found[0]} == files: ]]; then
        compopt -o filenames 2>/dev/null
        COMPREPLY=($(compgen -f -- "${COMP_WORDS[COMP_CWORD]}"))
    else
        COMPREPLY=("${found[@]}")
    fi
}
complete -o nosort -F _zembrel zembrel
""",
    "zsh": """#compdef zembrel
# Completion of zembrel in zsh: put this in a folder of $fpath as _zembrel
_zembrel() {
    local -a found described
    local line
    found=("${(@f)$(@=zsh zembrel "${(@)words[2,CURRENT]}" 2>/dev/null)}")
    if [[ ${found[1]} == files:* ]]; then
        _files
        return
    fi
    for line in "${found[@]}"; do
        [[ -n $line ]] && described+=("${${line%%$'\\t'*}//:/\\\\:}:${line#*$'\\t'}")
    done
    _describe -V zembrel described
}
compdef _zembrel zembrel
""",
    "fish": """# Completion of zembrel in fish: put this in ~/.config/fish/completions/zembrel.fish
function __zembrel
    set -l words (commandline -opc) (commandline -ct)
    set -l found (env @=fish zembrel $words[2..-1] 2>/dev/null)
    if string match -q 'files:*' -- $found[1]
        __fish_complete_path (commandline -ct)
    else
        printf '%s\\n' $found
    end
end
complete -c zembrel -f -a '(__zembrel)'
""",
}


def shell(output: Output, name: str) -> Receipt:
    """Give the script of a shell, or write the manual pages into a folder. Raises UsageError."""
    if name not in (*SCRIPTS, "man"):
        near = nearest_name(name, (*SCRIPTS, "man"))
        raise UsageError(f"zembrel shell {name}", "one of bash, zsh, fish and man is needed", near)
    if name != "man":
        return Receipt("shell", data=script_for(name))
    folder, pages = output.path, dict(manual_pages())
    with Staging(replace=True) as staging:
        for page, text in pages.items():
            with resource_errors(folder / page):
                staging.write_text(folder / page, text)
        staging.publish()
    size = sum(len(text.encode()) for text in pages.values())
    result = Result(folder, size, files=len(pages), seconds=output.seconds)
    return Receipt("shell", out=output.out, results=(result,))


def script_for(shell: str) -> str:
    """The script that a shell reads."""
    return SCRIPTS[shell].replace("@=", f"{ASKED}=")


def manual_pages() -> Iterator[tuple[str, str]]:
    """Names and texts of the manual pages: one of the program, and one for each verb."""
    rows = "".join(f".TP\n.B {_roff(name)}\n{_roff(row.summary)}\n" for name, row in VERBS.items())
    about = "Clips, mosaics, tiles, reprojects and converts rasters, features and points."
    see = ", ".join(f"zembrel-{name.replace(' ', '-')}(1)" for name in VERBS)
    sections = {
        "SYNOPSIS": ".B zembrel\n.I VERB INPUT...\n\\-\\-out\n.I PATH\n[options]\n",
        "DESCRIPTION": f"{about}\n", "VERBS": rows, "SEE ALSO": f"{_roff(see)}\n",
    }  # fmt: skip
    yield "zembrel.1", _page("zembrel", "rasters, features and points", sections)
    for name, row in VERBS.items():
        yield f"zembrel-{name.replace(' ', '-')}.1", _of_verb(name, row.summary, command_of(name))


def _of_verb(name: str, line: str, command: Any) -> str:
    options = "".join(
        f".TP\n.B {_roff(', '.join((*p.opts, *p.secondary_opts)))}{_value(p)}\n{_roff(p.help or '')}\n"
        for p in command.params
        if p.opts[0].startswith("-")
    )
    example = re.sub(r"\s*\n\s*", "\n", (command.epilog or "").replace("\b", "")).strip()
    usage = " ".join(command.collect_usage_pieces(None))
    sections = {
        "SYNOPSIS": f".B zembrel {name}\n{_roff(usage)}\n", "DESCRIPTION": f"{_roff(command.help or '')}\n",
        "OPTIONS": options, "EXAMPLE": f".nf\n{_roff(example)}\n.fi\n", "SEE ALSO": "zembrel(1)\n",
    }  # fmt: skip
    return _page(f"zembrel-{name.replace(' ', '-')}", line, sections)


def _value(param: Any) -> str:
    return "" if getattr(param, "is_flag", False) else f" \\fI{_roff(str(param.metavar or 'VALUE'))}\\fR"


def _page(name: str, line: str, sections: Mapping[str, str]) -> str:
    title = f'.TH "{name.upper()}" 1 "" "zembrel {program_version()}"'
    parts = "".join(f".SH {head}\n{text}" for head, text in sections.items() if text.strip())
    return f"{title}\n.SH NAME\n{_roff(name)} \\- {_roff(line)}\n{parts}"


def _roff(text: str) -> str:
    """Text as the language of manual pages has it; a line that begins with a sign of it is protected."""
    safe = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in safe.splitlines())
