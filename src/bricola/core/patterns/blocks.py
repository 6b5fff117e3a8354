"""The blocks of Unicode 14 by their names in patterns, without spaces and in small letters (Blocks.txt of the Unicode Character Database),
and those that XML Schema 1.0 calls by older names (Part 2, appendix F.1.1)."""

_TEXT = """
basiclatin 0000 007F; latin-1supplement 0080 00FF; latinextended-a 0100 017F; latinextended-b 0180 024F;
ipaextensions 0250 02AF; spacingmodifierletters 02B0 02FF; combiningdiacriticalmarks 0300 036F; greekandcoptic 0370 03FF;
cyrillic 0400 04FF; cyrillicsupplement 0500 052F; armenian 0530 058F; hebrew 0590 05FF; arabic 0600 06FF; syriac 0700 074F;
arabicsupplement 0750 077F; thaana 0780 07BF; nko 07C0 07FF; samaritan 0800 083F; mandaic 0840 085F;
syriacsupplement 0860 086F; arabicextended-b 0870 089F; arabicextended-a 08A0 08FF; devanagari 0900 097F; bengali 0980 09FF;
gurmukhi 0A00 0A7F; gujarati 0A80 0AFF; oriya 0B00 0B7F; tamil 0B80 0BFF; telugu 0C00 0C7F; kannada 0C80 0CFF;
malayalam 0D00 0D7F; sinhala 0D80 0DFF; thai 0E00 0E7F; lao 0E80 0EFF; tibetan 0F00 0FFF; myanmar 1000 109F;
georgian 10A0 10FF; hanguljamo 1100 11FF; ethiopic 1200 137F; ethiopicsupplement 1380 139F; cherokee 13A0 13FF;
unifiedcanadianaboriginalsyllabics 1400 167F; ogham 1680 169F; runic 16A0 16FF; tagalog 1700 171F; hanunoo 1720 173F;
buhid 1740 175F; tagbanwa 1760 177F; khmer 1780 17FF; mongolian 1800 18AF;
unifiedcanadianaboriginalsyllabicsextended 18B0 18FF; limbu 1900 194F; taile 1950 197F; newtailue 1980 19DF;
khmersymbols 19E0 19FF; buginese 1A00 1A1F; taitham 1A20 1AAF; combiningdiacriticalmarksextended 1AB0 1AFF; balinese 1B00 1B7F;
sundanese 1B80 1BBF; batak 1BC0 1BFF; lepcha 1C00 1C4F; olchiki 1C50 1C7F; cyrillicextended-c 1C80 1C8F;
georgianextended 1C90 1CBF; sundanesesupplement 1CC0 1CCF; vedicextensions 1CD0 1CFF; phoneticextensions 1D00 1D7F;
phoneticextensionssupplement 1D80 1DBF; combiningdiacriticalmarkssupplement 1DC0 1DFF; latinextendedadditional 1E00 1EFF;
greekextended 1F00 1FFF; generalpunctuation 2000 206F; superscriptsandsubscripts 2070 209F; currencysymbols 20A0 20CF;
combiningdiacriticalmarksforsymbols 20D0 20FF; letterlikesymbols 2100 214F; numberforms 2150 218F; arrows 2190 21FF;
mathematicaloperators 2200 22FF; miscellaneoustechnical 2300 23FF; controlpictures 2400 243F;
opticalcharacterrecognition 2440 245F; enclosedalphanumerics 2460 24FF; boxdrawing 2500 257F; blockelements 2580 259F;
geometricshapes 25A0 25FF; miscellaneoussymbols 2600 26FF; dingbats 2700 27BF; miscellaneousmathematicalsymbols-a 27C0 27EF;
supplementalarrows-a 27F0 27FF; braillepatterns 2800 28FF; supplementalarrows-b 2900 297F;
miscellaneousmathematicalsymbols-b 2980 29FF; supplementalmathematicaloperators 2A00 2AFF;
miscellaneoussymbolsandarrows 2B00 2BFF; glagolitic 2C00 2C5F; latinextended-c 2C60 2C7F; coptic 2C80 2CFF;
georgiansupplement 2D00 2D2F; tifinagh 2D30 2D7F; ethiopicextended 2D80 2DDF; cyrillicextended-a 2DE0 2DFF;
supplementalpunctuation 2E00 2E7F; cjkradicalssupplement 2E80 2EFF; kangxiradicals 2F00 2FDF;
ideographicdescriptioncharacters 2FF0 2FFF; cjksymbolsandpunctuation 3000 303F; hiragana 3040 309F; katakana 30A0 30FF;
bopomofo 3100 312F; hangulcompatibilityjamo 3130 318F; kanbun 3190 319F; bopomofoextended 31A0 31BF; cjkstrokes 31C0 31EF;
katakanaphoneticextensions 31F0 31FF; enclosedcjklettersandmonths 3200 32FF; cjkcompatibility 3300 33FF;
cjkunifiedideographsextensiona 3400 4DBF; yijinghexagramsymbols 4DC0 4DFF; cjkunifiedideographs 4E00 9FFF;
yisyllables A000 A48F; yiradicals A490 A4CF; lisu A4D0 A4FF; vai A500 A63F; cyrillicextended-b A640 A69F; bamum A6A0 A6FF;
modifiertoneletters A700 A71F; latinextended-d A720 A7FF; sylotinagri A800 A82F; commonindicnumberforms A830 A83F;
phags-pa A840 A87F; saurashtra A880 A8DF; devanagariextended A8E0 A8FF; kayahli A900 A92F; rejang A930 A95F;
hanguljamoextended-a A960 A97F; javanese A980 A9DF; myanmarextended-b A9E0 A9FF; cham AA00 AA5F; myanmarextended-a AA60 AA7F;
taiviet AA80 AADF; meeteimayekextensions AAE0 AAFF; ethiopicextended-a AB00 AB2F; latinextended-e AB30 AB6F;
cherokeesupplement AB70 ABBF; meeteimayek ABC0 ABFF; hangulsyllables AC00 D7AF; hanguljamoextended-b D7B0 D7FF;
highsurrogates D800 DB7F; highprivateusesurrogates DB80 DBFF; lowsurrogates DC00 DFFF; privateusearea E000 F8FF;
cjkcompatibilityideographs F900 FAFF; alphabeticpresentationforms FB00 FB4F; arabicpresentationforms-a FB50 FDFF;
variationselectors FE00 FE0F; verticalforms FE10 FE1F; combininghalfmarks FE20 FE2F; cjkcompatibilityforms FE30 FE4F;
smallformvariants FE50 FE6F; arabicpresentationforms-b FE70 FEFF; halfwidthandfullwidthforms FF00 FFEF; specials FFF0 FFFF;
linearbsyllabary 10000 1007F; linearbideograms 10080 100FF; aegeannumbers 10100 1013F; ancientgreeknumbers 10140 1018F;
ancientsymbols 10190 101CF; phaistosdisc 101D0 101FF; lycian 10280 1029F; carian 102A0 102DF; copticepactnumbers 102E0 102FF;
olditalic 10300 1032F; gothic 10330 1034F; oldpermic 10350 1037F; ugaritic 10380 1039F; oldpersian 103A0 103DF;
deseret 10400 1044F; shavian 10450 1047F; osmanya 10480 104AF; osage 104B0 104FF; elbasan 10500 1052F;
caucasianalbanian 10530 1056F; vithkuqi 10570 105BF; lineara 10600 1077F; latinextended-f 10780 107BF;
cypriotsyllabary 10800 1083F; imperialaramaic 10840 1085F; palmyrene 10860 1087F; nabataean 10880 108AF; hatran 108E0 108FF;
phoenician 10900 1091F; lydian 10920 1093F; meroitichieroglyphs 10980 1099F; meroiticcursive 109A0 109FF;
kharoshthi 10A00 10A5F; oldsoutharabian 10A60 10A7F; oldnortharabian 10A80 10A9F; manichaean 10AC0 10AFF; avestan 10B00 10B3F;
inscriptionalparthian 10B40 10B5F; inscriptionalpahlavi 10B60 10B7F; psalterpahlavi 10B80 10BAF; oldturkic 10C00 10C4F;
oldhungarian 10C80 10CFF; hanifirohingya 10D00 10D3F; ruminumeralsymbols 10E60 10E7F; yezidi 10E80 10EBF;
oldsogdian 10F00 10F2F; sogdian 10F30 10F6F; olduyghur 10F70 10FAF; chorasmian 10FB0 10FDF; elymaic 10FE0 10FFF;
brahmi 11000 1107F; kaithi 11080 110CF; sorasompeng 110D0 110FF; chakma 11100 1114F; mahajani 11150 1117F; sharada 11180 111DF;
sinhalaarchaicnumbers 111E0 111FF; khojki 11200 1124F; multani 11280 112AF; khudawadi 112B0 112FF; grantha 11300 1137F;
newa 11400 1147F; tirhuta 11480 114DF; siddham 11580 115FF; modi 11600 1165F; mongoliansupplement 11660 1167F;
takri 11680 116CF; ahom 11700 1174F; dogra 11800 1184F; warangciti 118A0 118FF; divesakuru 11900 1195F;
nandinagari 119A0 119FF; zanabazarsquare 11A00 11A4F; soyombo 11A50 11AAF;
unifiedcanadianaboriginalsyllabicsextended-a 11AB0 11ABF; paucinhau 11AC0 11AFF; bhaiksuki 11C00 11C6F; marchen 11C70 11CBF;
masaramgondi 11D00 11D5F; gunjalagondi 11D60 11DAF; makasar 11EE0 11EFF; lisusupplement 11FB0 11FBF;
tamilsupplement 11FC0 11FFF; cuneiform 12000 123FF; cuneiformnumbersandpunctuation 12400 1247F;
earlydynasticcuneiform 12480 1254F; cypro-minoan 12F90 12FFF; egyptianhieroglyphs 13000 1342F;
egyptianhieroglyphformatcontrols 13430 1343F; anatolianhieroglyphs 14400 1467F; bamumsupplement 16800 16A3F; mro 16A40 16A6F;
tangsa 16A70 16ACF; bassavah 16AD0 16AFF; pahawhhmong 16B00 16B8F; medefaidrin 16E40 16E9F; miao 16F00 16F9F;
ideographicsymbolsandpunctuation 16FE0 16FFF; tangut 17000 187FF; tangutcomponents 18800 18AFF; khitansmallscript 18B00 18CFF;
tangutsupplement 18D00 18D7F; kanaextended-b 1AFF0 1AFFF; kanasupplement 1B000 1B0FF; kanaextended-a 1B100 1B12F;
smallkanaextension 1B130 1B16F; nushu 1B170 1B2FF; duployan 1BC00 1BC9F; shorthandformatcontrols 1BCA0 1BCAF;
znamennymusicalnotation 1CF00 1CFCF; byzantinemusicalsymbols 1D000 1D0FF; musicalsymbols 1D100 1D1FF;
ancientgreekmusicalnotation 1D200 1D24F; mayannumerals 1D2E0 1D2FF; taixuanjingsymbols 1D300 1D35F;
countingrodnumerals 1D360 1D37F; mathematicalalphanumericsymbols 1D400 1D7FF; suttonsignwriting 1D800 1DAAF;
latinextended-g 1DF00 1DFFF; glagoliticsupplement 1E000 1E02F; nyiakengpuachuehmong 1E100 1E14F; toto 1E290 1E2BF;
wancho 1E2C0 1E2FF; ethiopicextended-b 1E7E0 1E7FF; mendekikakui 1E800 1E8DF; adlam 1E900 1E95F; indicsiyaqnumbers 1EC70 1ECBF;
ottomansiyaqnumbers 1ED00 1ED4F; arabicmathematicalalphabeticsymbols 1EE00 1EEFF; mahjongtiles 1F000 1F02F;
dominotiles 1F030 1F09F; playingcards 1F0A0 1F0FF; enclosedalphanumericsupplement 1F100 1F1FF;
enclosedideographicsupplement 1F200 1F2FF; miscellaneoussymbolsandpictographs 1F300 1F5FF; emoticons 1F600 1F64F;
ornamentaldingbats 1F650 1F67F; transportandmapsymbols 1F680 1F6FF; alchemicalsymbols 1F700 1F77F;
geometricshapesextended 1F780 1F7FF; supplementalarrows-c 1F800 1F8FF; supplementalsymbolsandpictographs 1F900 1F9FF;
chesssymbols 1FA00 1FA6F; symbolsandpictographsextended-a 1FA70 1FAFF; symbolsforlegacycomputing 1FB00 1FBFF;
cjkunifiedideographsextensionb 20000 2A6DF; cjkunifiedideographsextensionc 2A700 2B73F;
cjkunifiedideographsextensiond 2B740 2B81F; cjkunifiedideographsextensione 2B820 2CEAF;
cjkunifiedideographsextensionf 2CEB0 2EBEF; cjkcompatibilityideographssupplement 2F800 2FA1F;
cjkunifiedideographsextensiong 30000 3134F; tags E0000 E007F; variationselectorssupplement E0100 E01EF;
supplementaryprivateusearea-a F0000 FFFFF; supplementaryprivateusearea-b 100000 10FFFF
"""


def _read() -> dict[str, tuple[int, int]]:
    found: dict[str, tuple[int, int]] = {}
    for line in _TEXT.split(";"):
        name, low, high = line.split()
        found[name] = int(low, 16), int(high, 16)
    older = {"greek": "greekandcoptic", "combiningmarksforsymbols": "combiningdiacriticalmarksforsymbols", "privateuse": "privateusearea",
             "cyrillicsupplementary": "cyrillicsupplement"}
    return found | {old: found[new] for old, new in older.items()}


BLOCKS = _read()
